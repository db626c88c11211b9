import { useRouter } from "@tanstack/react-router";
import { type SubmitEvent, useRef, useState } from "react";
import { api, taken } from "../api/client";
import type { components } from "../api/generated/schema";
import { useHotkeys } from "../ui/hotkeys";
import { Input } from "../ui/kit";

type Candidate = components["schemas"]["Candidate"];

/** One box for whatever somebody has at hand: goes to the one page it means, or shows what it may mean. */
export function FindBox() {
  const router = useRouter();
  const field = useRef<HTMLInputElement>(null);
  const [text, setText] = useState("");
  const [found, setFound] = useState<Candidate[] | null>(null);
  const [problem, setProblem] = useState<string | null>(null);
  const close = () => {
    setFound(null);
    setProblem(null);
  };
  useHotkeys({ g: () => field.current?.focus() });
  const go = (candidate: Candidate) => {
    close();
    setText("");
    field.current?.blur();
    router.history.push(candidate.path);
  };
  const send = async (event: SubmitEvent) => {
    event.preventDefault();
    if (text.trim() === "") return;
    close();
    try {
      const { items } = await taken(api.GET("/api/v1/find", { params: { query: { text } } }));
      const [only] = items;
      if (items.length === 1 && only) go(only);
      else setFound(items);
    } catch (error) {
      setProblem(error instanceof Error ? error.message : String(error));
    }
  };
  return (
    <form
      onSubmit={(event) => void send(event)}
      role="search"
      className="relative max-md:min-w-0 max-md:flex-1 max-md:basis-24"
    >
      <Input
        ref={field}
        type="search"
        aria-label="Find anything: a reference, link, trace, user, log line"
        title="A reference, link, trace or request id, user, log line or stack. Key: g"
        placeholder="find anything"
        value={text}
        spellCheck={false}
        onChange={(value) => {
          setText(value);
          close();
        }}
        onKeyDown={(event) => {
          if (event.key === "Escape") {
            close();
            event.currentTarget.blur();
          }
        }}
        className="text-ink w-full text-[13px] md:w-32 md:focus:w-64"
      />
      {(found || problem) && (
        <div
          role="status"
          className="border-line bg-sheet absolute z-30 mt-1 w-[min(36rem,90vw)] rounded-sm border py-1 shadow-md"
        >
          {problem && <p className="text-brick px-3 py-1">{problem}</p>}
          {found?.length === 0 && (
            <p className="text-faint px-3 py-1">
              Nothing known holds this: no reference, occurrence, trace, attribute value, title or stack.
            </p>
          )}
          <ul>
            {found?.map((candidate) => (
              <li key={candidate.path}>
                <button
                  type="button"
                  onClick={() => go(candidate)}
                  className="hover:bg-wash block w-full px-3 py-1 text-left"
                >
                  <span className="[overflow-wrap:anywhere]">{candidate.title}</span>{" "}
                  <span className="text-faint text-[13px]">by {candidate.by}</span>
                </button>
              </li>
            ))}
          </ul>
        </div>
      )}
    </form>
  );
}
