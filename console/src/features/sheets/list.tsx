import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { reading, useServices } from "../../api/client";
import { counted } from "../../ui/format";
import { Answer, Callout, Heading } from "../../ui/kit";
import { Failed, Skeleton } from "../../ui/states";
import { Ago } from "../../ui/time";
import { read, type SheetDocument } from "../../parts/sheet";
import { SaveAs } from "./save-as";

/** The sheets that people saved, and those that services have by themselves. */
export function SheetsPage() {
  const sheets = useQuery(reading("/api/v1/sheets"));
  if (sheets.isPending) return <Skeleton isPage rows={6} />;
  if (sheets.isLoadingError)
    return <Failed isPage what="The sheets" error={sheets.error} retry={() => void sheets.refetch()} />;
  const { items } = sheets.data;
  return (
    <>
      <Answer note="A sheet is a page of questions and text that people arrange: for a wall, a handover, a meeting.">
        {items.length === 0 ? "No sheet is saved yet." : `${counted(items.length, "sheet is", "sheets are")} saved.`}
      </Answer>
      <p className="mt-3 flex flex-wrap items-baseline gap-2">
        <SaveAs look="main" label="New sheet" document={{ parts: [] }} />
        <Import />
      </p>
      {items.length > 0 && (
        <ul aria-label="Sheets" className="mt-4">
          {items.map((item) => (
            <li key={item.name} className="border-line border-b py-2">
              <div className="flex flex-wrap items-baseline gap-x-4">
                <Link to="/sheets/$name" params={{ name: item.name }} className="font-semibold break-words">
                  {item.name}
                </Link>
                <span className="text-faint text-[13px]">
                  {counted(item.parts, "part", "parts")}, {item.owner}, <Ago at={item.changed_at} />
                </span>
              </div>
              {item.about && <p className="break-words">{item.about}</p>}
            </li>
          ))}
        </ul>
      )}
      <OfServices />
    </>
  );
}

function OfServices() {
  const services = useServices();
  const names = [...new Set((services.data?.items ?? []).map(({ service }) => service))];
  if (names.length === 0) return null;
  return (
    <section aria-label="Sheets of services" className="mt-6">
      <Heading note="made by themselves; a deploy’s sheet is linked from its page">Sheets of services</Heading>
      <ul className="mt-2 columns-2 md:columns-4">
        {names.map((service) => (
          <li key={service} className="break-inside-avoid py-0.5">
            <Link to="/sheet-of/$service" params={{ service }} className="break-words">
              {service}
            </Link>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** Takes a sheet from a file. */
function Import() {
  const [document, setDocument] = useState<SheetDocument>();
  const [wrong, setWrong] = useState<string>();
  const take = async (file: File | undefined) => {
    setDocument(undefined);
    setWrong(undefined);
    if (!file) return;
    try {
      setDocument(read(await file.text()));
    } catch (error) {
      setWrong(error instanceof Error ? error.message : String(error));
    }
  };
  return (
    <>
      <label className="text-accent cursor-pointer focus-within:outline-2">
        <span className="underline">Import a file</span>
        <input
          type="file"
          accept=".json,application/json"
          className="sr-only"
          onChange={(event) => void take(event.target.files?.[0])}
        />
      </label>
      {document && <SaveAs label="Save what was imported" document={document} />}
      {wrong && <Callout tone="bad">{wrong}</Callout>}
    </>
  );
}
