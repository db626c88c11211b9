import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { reading } from "../../api/client";
import { QuestionBox } from "../../parts/question-box";
import { Modal } from "../../ui/dialog";
import { Button, Field, Select, TextArea } from "../../ui/kit";
import { MAX_PARTS, moved, placed, type SheetDocument, type SheetPart, WIDTHS, without } from "../../parts/sheet";

type Props = {
  document: SheetDocument;
  questionOf: (part: SheetPart) => string | null;
  onChange: (document: SheetDocument) => void;
};

/** The parts of a sheet as a list: order, width, title; adding and removing. */
export function Arranging({ document, questionOf, onChange }: Props) {
  const [edited, setEdited] = useState<number>();
  const { parts } = document;
  return (
    <>
      <div className="mt-4 grid gap-3 md:grid-cols-4">
        <Field
          label="Service"
          hint="empty: all"
          value={document.service ?? ""}
          onChange={(service) => onChange({ ...document, service: service || null })}
        />
        <Field
          label="Environment"
          hint="empty: all"
          value={document.environment ?? ""}
          onChange={(environment) => onChange({ ...document, environment: environment || null })}
        />
        <Field
          label="Over"
          hint="such as 7d; empty: 24 hours"
          value={document.over ?? ""}
          onChange={(over) => onChange({ ...document, over: over || null })}
        />
      </div>
      <ol aria-label="Parts" className="mt-4">
        {parts.map((part, at) => (
          <li key={at} className="border-line flex flex-wrap items-baseline gap-x-3 gap-y-1 border-b py-2">
            <span className="min-w-0 grow basis-64">
              <span className="font-semibold break-words">
                {part.title || part.saved || part.metric || "Without a title"}
              </span>
              <span className="text-faint block truncate font-mono text-[13px]">
                {questionOf(part) ?? part.metric ?? part.text}
              </span>
            </span>
            <Select
              label={`Width of part ${at + 1}`}
              value={part.width ?? "half"}
              options={WIDTHS}
              onChange={(width) => onChange(placed(document, at, { ...part, width }))}
            />
            <Button disabled={at === 0} onClick={() => onChange(moved(document, at, -1))}>
              Earlier
            </Button>
            <Button disabled={at === parts.length - 1} onClick={() => onChange(moved(document, at, 1))}>
              Later
            </Button>
            <Button onClick={() => setEdited(at)}>Change</Button>
            <Button onClick={() => onChange(without(document, at))}>Take away</Button>
          </li>
        ))}
      </ol>
      <p className="mt-3">
        <Button look="main" disabled={parts.length >= MAX_PARTS} onClick={() => setEdited(parts.length)}>
          Add a part
        </Button>
        {parts.length >= MAX_PARTS && <span className="text-faint ml-2">A sheet has {MAX_PARTS} parts at most.</span>}
      </p>
      <Modal
        title={edited === parts.length ? "Add a part" : "Change the part"}
        isOpen={edited !== undefined}
        onClose={() => setEdited(undefined)}
      >
        {edited !== undefined && (
          <PartForm
            key={edited}
            part={parts[edited] ?? { title: "", question: "", width: "half" }}
            onDone={(part) => {
              onChange(placed(document, edited, part));
              setEdited(undefined);
            }}
          />
        )}
      </Modal>
    </>
  );
}

const KINDS = [
  ["question", "a question"],
  ["saved", "a saved question"],
  ["metric", "a metric"],
  ["text", "text"],
] as const;

type Kind = (typeof KINDS)[number][0];

const kindOf = (part: SheetPart): Kind =>
  part.text != null ? "text" : part.saved != null ? "saved" : part.metric != null ? "metric" : "question";

function PartForm({ part, onDone }: { part: SheetPart; onDone: (part: SheetPart) => void }) {
  const [kind, setKind] = useState<Kind>(kindOf(part));
  const [title, setTitle] = useState(part.title ?? "");
  const [said, setSaid] = useState(part.text ?? part.saved ?? part.metric ?? part.question ?? "");
  const [by, setBy] = useState(part.by ?? "");
  const field = useRef<HTMLInputElement>(null);
  const saved = useQuery({ ...reading("/api/v1/questions"), enabled: kind === "saved" });
  const names = saved.data?.items.map(({ name }) => [name, name] as const) ?? [];
  return (
    <form
      className="w-[80vw] max-w-xl space-y-3"
      onSubmit={(event) => {
        event.preventDefault();
        const ofMetric = kind === "metric" && by.trim() !== "" ? { by: by.trim() } : {};
        onDone({ title: title.trim(), width: part.width ?? "half", [kind]: said.trim(), ...ofMetric });
      }}
    >
      <label className="block">
        <span className="font-semibold">It is</span>{" "}
        <Select
          label="It is"
          value={kind}
          options={KINDS}
          onChange={(kind) => {
            setKind(kind);
            setSaid("");
          }}
        />
      </label>
      <Field label="Title" value={title} onChange={setTitle} maxLength={200} />
      {kind === "text" && (
        <label className="block">
          <span className="font-semibold">Text</span> <span className="text-faint">in plain Markdown</span>
          <TextArea className="mt-1 block w-full" rows={8} value={said} onChange={setSaid} maxLength={4000} />
        </label>
      )}
      {kind === "saved" && (
        <label className="block">
          <span className="font-semibold">Saved question</span>{" "}
          {names.length === 0 && saved.data ? (
            <span className="text-faint">None is saved yet: ask one, and save it.</span>
          ) : (
            <Select label="Saved question" value={said} options={[["", "choose one"], ...names]} onChange={setSaid} />
          )}
        </label>
      )}
      {kind === "metric" && (
        <>
          <Field label="Metric" hint="its name" isCode value={said} onChange={setSaid} maxLength={255} />
          <Field
            label="A line for each"
            hint="service, version, instance, environment or an attribute; empty: one line"
            value={by}
            onChange={setBy}
            maxLength={255}
          />
        </>
      )}
      {kind === "question" && (
        <>
          <QuestionBox value={said || undefined} onAsk={setSaid} field={field} />
          <p className="text-faint text-[13px]">
            {said ? "Enter takes the question over; then it can be put on the sheet." : "Write a question, then Enter."}
          </p>
        </>
      )}
      <Button look="main" type="submit" disabled={said.trim() === ""}>
        Put it on the sheet
      </Button>
    </form>
  );
}
