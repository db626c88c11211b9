import { type ReactNode, useEffect, useState } from "react";
import { Button } from "./kit";

/** The heading of a state that stands in the place of a whole page, or of a part of one. */
function Title({ isPage, children }: { isPage: boolean; children: ReactNode }) {
  const Level = isPage ? "h1" : "p";
  return <Level className="font-semibold">{children}</Level>;
}

/** Grey lines of the shape that is to come; `isPage`: of a whole page. */
export function Skeleton({ rows, isPage = false }: { rows: number; isPage?: boolean }) {
  return (
    <div role="status" aria-label="Loading" className="space-y-3 py-3">
      {isPage && <h1 className="sr-only">Loading</h1>}
      {Array.from({ length: rows }, (_, at) => (
        <div key={at} className="bg-wash h-9 rounded-sm motion-safe:animate-pulse" />
      ))}
    </div>
  );
}

type FailedProps = { what: string; error: Error; retry: () => void; isPage?: boolean };

/** What failed, why, and a way to try again. */
export function Failed({ what, error, retry, isPage = false }: FailedProps) {
  return (
    <div role="alert" className="border-brick bg-sheet my-4 border-l-4 px-4 py-3">
      <Title isPage={isPage}>{what} could not be read.</Title>
      <p className="text-faint">{error.message}</p>
      <Button onClick={retry} className="mt-2">
        Try again
      </Button>
    </div>
  );
}

/** Nothing is here; what to do next. */
export function Empty({ title, children, isPage = false }: { title: string; children: ReactNode; isPage?: boolean }) {
  return (
    <div className="border-line bg-sheet my-6 border-l-4 px-4 py-4">
      <Title isPage={isPage}>{title}</Title>
      <div className="text-faint mt-1 space-y-2">{children}</div>
    </div>
  );
}

/** A command or text to copy. */
export function Code({ children, label }: { children: string; label: string }) {
  return (
    <div className="relative my-2">
      <pre
        role="region"
        tabIndex={0}
        aria-label={label}
        className="border-line bg-sheet text-ink overflow-x-auto rounded-sm border p-3 pr-16 font-mono text-[13px]"
      >
        {children}
      </pre>
      <Copy label={label} text={children} />
    </div>
  );
}

/** Copies a text, and says whether that worked. */
function Copy({ label, text }: { label: string; text: string }) {
  const [said, setSaid] = useState<"" | "Copied" | "Not copied: select it">("");
  useEffect(() => {
    if (said === "") return;
    const timer = setTimeout(() => setSaid(""), 3_000);
    return () => clearTimeout(timer);
  }, [said]);
  return (
    <button
      type="button"
      onClick={() => void copy(text).then((done) => setSaid(done ? "Copied" : "Not copied: select it"))}
      className="border-line bg-paper hover:bg-wash absolute top-2 right-2 rounded-sm border px-2 py-0.5 text-xs"
      aria-label={said === "" ? `Copy: ${label}` : undefined}
    >
      <span aria-live="polite">{said === "" ? "Copy" : said}</span>
    </button>
  );
}

/** Browsers give the clipboard to pages over HTTPS alone; over plain HTTP the text is selected and copied as by hand. */
async function copy(text: string): Promise<boolean> {
  if (window.isSecureContext) {
    return navigator.clipboard.writeText(text).then(
      () => true,
      () => false,
    );
  }
  const field = document.createElement("textarea");
  field.value = text;
  field.setAttribute("readonly", "");
  field.className = "fixed opacity-0";
  document.body.append(field);
  field.select();
  // eslint-disable-next-line @typescript-eslint/no-deprecated -- nothing else copies without a secure context
  const done = document.execCommand("copy");
  field.remove();
  return done;
}

/** A key of the keyboard. */
export function Key({ children }: { children: string }) {
  return <kbd className="border-line bg-sheet text-faint rounded-sm border px-1 font-mono text-xs">{children}</kbd>;
}
