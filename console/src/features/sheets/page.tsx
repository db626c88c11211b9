import { useMutation, useQuery } from "@tanstack/react-query";
import { useNavigate, useParams, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import { api, changed, reading, taken, useMember, windowOf } from "../../api/client";
import { useFollowed } from "../../api/live";
import { windowInWords } from "../../ui/format";
import { Confirm } from "../../ui/dialog";
import { useHotkeys } from "../../ui/hotkeys";
import { Answer, Button, Refused } from "../../ui/kit";
import { Failed, Skeleton } from "../../ui/states";
import { Arranging } from "./arranging";
import { Load } from "../../parts/load";
import type { Sheet, SheetDocument } from "../../parts/sheet";
import { SaveAs } from "./save-as";
import { Part, type SheetScope } from "./part";

/** How wide the page is on a desk, in pixels. */
const DESK = 1_300;
/** The columns of six that a part takes; on a phone all. */
const COLUMNS = { third: "md:col-span-2", half: "md:col-span-3", whole: "md:col-span-6" };
/** How often a sheet is read again where something new came, in milliseconds: it may ask forty questions. */
const READ_EVERY = 10_000;

/** A sheet that somebody saved. */
export function SheetPage() {
  const { name } = useParams({ from: "/inside/sheets/$name" });
  const sheet = useQuery(reading("/api/v1/sheets/{name}", { params: { path: { name } } }));
  if (sheet.isPending) return <Skeleton isPage rows={6} />;
  if (sheet.isLoadingError)
    return <Failed isPage what={`The sheet ${name}`} error={sheet.error} retry={() => void sheet.refetch()} />;
  return <Shown key={`${name} ${sheet.data.version}`} sheet={sheet.data} />;
}

/** The sheet that each service has by itself. */
export function ServiceSheetPage() {
  const { service } = useParams({ from: "/inside/sheet-of/$service" });
  return <Made service={service} />;
}

/** The sheet that each deploy has by itself. */
export function DeploySheetPage() {
  const { service, version } = useParams({ from: "/inside/sheet-of/$service/$version" });
  return <Made service={service} version={version} />;
}

function Made(query: { service: string; version?: string }) {
  const search = useSearch({ from: "/inside" });
  const sheet = useQuery(reading("/api/v1/made-sheet", { params: { query } }));
  if (sheet.isPending) return <Skeleton isPage rows={6} />;
  if (sheet.isLoadingError)
    return <Failed isPage what="The sheet" error={sheet.error} retry={() => void sheet.refetch()} />;
  return (
    <>
      <Shown key={sheet.data.name} sheet={sheet.data} />
      <Load service={query.service} environment={search.environment} window={windowOf(search)} />
    </>
  );
}

/** What the questions of a sheet are asked of: the reader's scope, else the sheet's own. */
function useScope({ service, environment, over }: SheetDocument, isMade: boolean): SheetScope {
  const search = useSearch({ from: "/inside" });
  const own = isMade ? service : (search.service ?? service);
  const window = search.from
    ? { from: search.from, ...(search.to && { to: search.to }) }
    : { since: search.since ?? over ?? "24h" };
  const placed = search.environment ?? environment;
  return { ...(own && { service: own }), ...(placed && { environment: placed }), ...window };
}

function Shown({ sheet }: { sheet: Sheet }) {
  const { view } = useSearch({ from: "/inside" });
  const navigate = useNavigate();
  const member = useMember().data;
  const isWall = view === "wall";
  const setWall = (isOn: boolean) =>
    void navigate({ to: ".", search: (now: object) => ({ ...now, view: isOn ? "wall" : undefined }) });
  useHotkeys({ w: () => setWall(!isWall), ...(isWall && { Escape: () => setWall(false) }) });
  useFollowed(["/api/v1/ask", "/api/v1/metrics/{name}"], READ_EVERY);
  // All changes since the sheet was opened, so that each can be undone.
  const [drafts, setDrafts] = useState<SheetDocument[]>([]);
  const [isArranged, setArranged] = useState(false);
  const document = drafts.at(-1) ?? sheet.document;
  const scope = useScope(document, sheet.owner == null);
  const saved = useQuery({
    ...reading("/api/v1/questions"),
    enabled: document.parts.some((part) => part.saved != null),
  });
  const questionOf = (part: SheetDocument["parts"][number]) =>
    part.question ?? saved.data?.items.find(({ name }) => name === part.saved)?.question ?? null;
  const isOwn = sheet.owner != null && sheet.owner === member?.email;
  const save = useMutation({
    mutationFn: () =>
      taken(
        api.PUT("/api/v1/sheets/{name}", {
          params: { path: { name: sheet.name } },
          body: { document, version: sheet.version },
        }),
      ),
    onSuccess: () => changed("/api/v1/sheets", "/api/v1/sheets/{name}"),
  });
  const remove = useMutation({
    mutationFn: () => taken(api.DELETE("/api/v1/sheets/{name}", { params: { path: { name: sheet.name } } })),
    onSuccess: async () => {
      await changed("/api/v1/sheets");
      void navigate({ to: "/sheets" });
    },
  });
  const mayRemove = isOwn || (sheet.owner != null && member?.role === "admin");
  return (
    <div style={isWall ? { zoom: Math.max(1, window.innerWidth / DESK) } : undefined}>
      <div className="flex flex-wrap items-start justify-between gap-x-4 gap-y-2">
        <div className="min-w-0">
          <Answer note={said(sheet, document, scope)}>{sheet.name}</Answer>
        </div>
        <p className="flex flex-wrap gap-2 print:hidden">
          {!isWall && isOwn && (
            <Button aria-pressed={isArranged} onClick={() => setArranged(!isArranged)}>
              {isArranged ? "Show it" : "Arrange"}
            </Button>
          )}
          {!isWall && (
            <>
              <SaveAs document={document} label={sheet.owner == null ? "Save as a sheet" : "Save a copy"} />
              <Button onClick={() => exported(sheet.name, document)}>Export</Button>
            </>
          )}
          {!isWall && mayRemove && (
            <Confirm
              label="Remove"
              title={`Remove the sheet ${sheet.name}?`}
              action="Remove"
              isPending={remove.isPending}
              onConfirm={() => remove.mutate()}
            >
              It goes for everybody. Export it first to be able to bring it back.
            </Confirm>
          )}
          <Button onClick={() => setWall(!isWall)} title={isWall ? "w or Escape" : "for a screen on the wall: w"}>
            {isWall ? "Leave the wall" : "Wall"}
          </Button>
        </p>
      </div>
      {document.about && <p className="mt-1 break-words">{document.about}</p>}
      {drafts.length > 0 && (
        <p role="status" className="mt-2 flex flex-wrap items-baseline gap-2 print:hidden">
          <span className="text-ochre">Not saved yet.</span>
          <Button look="main" disabled={save.isPending} onClick={() => save.mutate()}>
            Save
          </Button>
          <Button onClick={() => setDrafts(drafts.slice(0, -1))}>Undo</Button>
          <Button onClick={() => setDrafts([])}>Undo all</Button>
        </p>
      )}
      {save.error && <Refused what="Not saved" error={save.error} />}
      {remove.error && <Refused what="Not removed" error={remove.error} />}
      {document.parts.length === 0 && !isArranged && (
        <p className="text-faint mt-4">
          Nothing stands on this sheet yet. Its owner adds questions and text by Arrange.
        </p>
      )}
      {isArranged ? (
        <Arranging document={document} questionOf={questionOf} onChange={(next) => setDrafts([...drafts, next])} />
      ) : (
        <div className="mt-4 grid grid-cols-1 gap-x-8 gap-y-6 md:grid-cols-6">
          {document.parts.map((part, at) => (
            <section
              key={`${at} ${part.title}`}
              aria-label={part.title || part.saved || part.metric || `Part ${at + 1}`}
              className={`min-w-0 break-inside-avoid ${COLUMNS[part.width ?? "half"]}`}
            >
              <Part part={part} question={questionOf(part)} scope={scope} />
            </section>
          ))}
        </div>
      )}
    </div>
  );
}

/** Of whom the sheet is, and what its questions are asked of. */
function said(sheet: Sheet, document: SheetDocument, scope: SheetScope) {
  const of = [scope.service, scope.environment].filter(Boolean).join(", ");
  const asked = `${of || "All services"}; ${windowInWords(scope)}.`;
  if (sheet.owner == null) return `${asked} This sheet is made by itself; saved, it can be arranged.`;
  const parts = document.parts.length === 1 ? "1 part" : `${document.parts.length} parts`;
  return `${asked} ${parts}, by ${sheet.owner}.`;
}

/** Saves a sheet as a file. */
function exported(name: string, document: SheetDocument) {
  const file = new Blob([`${JSON.stringify(document, null, 2)}\n`], { type: "application/json" });
  const link = window.document.createElement("a");
  link.href = URL.createObjectURL(file);
  link.download = `${name.replaceAll(/[^\p{L}\p{N}.-]+/gu, "-")}.sheet.json`;
  link.click();
  URL.revokeObjectURL(link.href);
}
