import { useSearch } from "@tanstack/react-router";
import { type ReactNode, useState } from "react";
import { useServices } from "../../api/client";
import { Empty, Failed, Skeleton } from "../../ui/states";
import { ChangeSteps, History } from "../../parts/grouping-change";
import { Answer, Heading } from "../../ui/kit";

const lines = (text: string) =>
  text
    .split(/[\n,]/)
    .map((line) => line.trim())
    .filter(Boolean);

/** Rules of people: which code is own, what belongs together; and all that was changed. */
export function GroupingPage() {
  const services = useServices();
  const { service: inScope } = useSearch({ from: "/inside" });
  const [chosen, setChosen] = useState<string>();
  const [own, setOwn] = useState("");
  const [library, setLibrary] = useState("");
  const [where, setWhere] = useState("");
  if (services.isPending) return <Skeleton isPage rows={8} />;
  if (services.isLoadingError)
    return <Failed isPage what="The services" error={services.error} retry={() => void services.refetch()} />;
  const items = services.data.items;
  const service = chosen ?? inScope ?? items[0]?.service;
  if (!service) {
    return (
      <Empty title="No service has sent anything yet.">
        <p>Rules are tried on what services have sent.</p>
      </Empty>
    );
  }
  const input = "mt-1 block w-full rounded-sm border border-line bg-sheet px-2 py-1 font-mono text-[13px]";
  return (
    <>
      <Answer>Errors are grouped by built-in rules; here you add to them, and undo it.</Answer>
      <p className="mt-1">
        <label>
          Rules for{" "}
          <select
            value={service}
            onChange={(event) => setChosen(event.target.value)}
            className="border-line bg-sheet rounded-sm border px-1.5 py-1"
          >
            {items.map((item) => (
              <option key={`${item.namespace} ${item.service}`}>{item.service}</option>
            ))}
          </select>
        </label>{" "}
        <span className="text-faint">
          Each is tried on what was sent before it is made. An error is split on its own page.
        </span>
      </p>
      <div className="mt-4 grid gap-8 lg:grid-cols-2">
        <Rule
          title="Own code"
          why="Own frames decide which error an occurrence is. Say which code counts: beginnings of paths, modules or functions, one a line."
        >
          <div className="grid grid-cols-2 gap-3">
            <label>
              Is own code
              <textarea
                rows={3}
                value={own}
                onChange={(event) => setOwn(event.target.value)}
                placeholder="vendor/skerry_tariffs"
                className={input}
              />
            </label>
            <label>
              Is a library
              <textarea
                rows={3}
                value={library}
                onChange={(event) => setLibrary(event.target.value)}
                placeholder="fares.generated"
                className={input}
              />
            </label>
          </div>
          <ChangeSteps
            isRule
            change={
              lines(own + library).length > 0
                ? { kind: "own_code", service, own: lines(own), library: lines(library) }
                : undefined
            }
          />
        </Rule>
        <Rule title="One error where" why="Whatever this holds for is one error, what is known as well as what comes.">
          <label>
            Predicate
            <input
              value={where}
              onChange={(event) => setWhere(event.target.value)}
              placeholder='type = ConnectTimeout and function like "*dial"'
              className={input}
            />
          </label>
          <ChangeSteps isRule change={where.trim() ? { kind: "join_where", service, where } : undefined} />
        </Rule>
      </div>
      <Heading className="mt-8">What was changed, the newest first</Heading>
      <div className="text-[13px]">
        <History />
      </div>
    </>
  );
}

function Rule({ title, why, children }: { title: string; why: string; children: ReactNode }) {
  return (
    <section>
      <Heading>{title}</Heading>
      <p className="text-faint my-1.5">{why}</p>
      <div className="text-[13px]">{children}</div>
    </section>
  );
}
