import { useMutation } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { type SubmitEvent, useState } from "react";
import { type ServiceItem, api, taken, useServices, useIsAdmin } from "../../api/client";
import { ago, agoInWords, counted, exact } from "../../ui/format";
import { Code, Failed, Skeleton } from "../../ui/states";
import { Refusals } from "../../parts/refusals";
import { Editor } from "./editor";
import { HOSTING } from "./hosting";
import type { Step } from "./guide";
import { GUIDES } from "./steps";
import { Answer, Button, Callout, DocsLink, Heading, Input } from "../../ui/kit";

export function ConnectPage() {
  const services = useServices();
  const { q: waitingFor } = useSearch({ from: "/inside/connect" });
  if (services.isPending) return <Skeleton isPage rows={8} />;
  if (services.isLoadingError)
    return <Failed isPage what="The services" error={services.error} retry={() => void services.refetch()} />;
  const items = services.data.items;
  return (
    <>
      <Answer>
        {items.length === 0
          ? "No service has sent anything yet: connect the first one."
          : `${counted(items.length, "service reports", "services report")}. Connect another one in three steps.`}
      </Answer>
      <DocsLink page="guides/connect">How to connect a service, in full</DocsLink>
      <div className="mt-4 grid gap-8 lg:grid-cols-[minmax(0,1fr)_26rem]">
        <div className="min-w-0 space-y-10">
          <Setup items={items} waitingFor={waitingFor} />
          <Editor />
        </div>
        <div className="space-y-8">
          <Refusals minutes={15} />
          <Reporting items={items} />
        </div>
      </div>
    </>
  );
}

function Setup({ items, waitingFor }: { items: ServiceItem[]; waitingFor: string | undefined }) {
  const navigate = useNavigate({ from: "/connect" });
  const [service, setService] = useState(waitingFor ?? "");
  const [language, setLanguage] = useState("Python");
  const [frameworkName, setFrameworkName] = useState<string>();
  const [place, setPlace] = useState<string>();
  const make = useMutation({
    mutationFn: () =>
      taken(
        api.POST("/api/v1/keys", {
          body: { name: `${service}, ${new Date().toISOString().slice(0, 19)}`, services: [service] },
        }),
      ),
    onSuccess: () => void navigate({ search: (now) => ({ ...now, q: service }) }),
  });
  const send = (event: SubmitEvent) => {
    event.preventDefault();
    make.mutate();
  };
  const guide = GUIDES.find((guide) => guide.language === language) ?? GUIDES[0];
  const framework = guide.frameworks?.find(({ name }) => name === frameworkName) ?? guide.frameworks?.[0];
  const isAdmin = useIsAdmin();
  const [pasted, setPasted] = useState("");
  const key = make.data?.key ?? pasted.trim();
  const known = { service, endpoint: window.location.origin, key };
  return (
    <section aria-label="Set-up">
      <Heading>1. A sender key</Heading>
      <form onSubmit={send} className="my-3 flex flex-wrap items-end gap-3">
        <label>
          <span className="mb-1 block">Name of the service</span>
          <Input
            required
            maxLength={200}
            value={service}
            onChange={(value) => setService(value.trim())}
            placeholder="fares"
            className="font-mono"
          />
        </label>
        {isAdmin ? (
          <Button look="main" type="submit" disabled={make.isPending || service === ""}>
            Make a key
          </Button>
        ) : (
          <label className="min-w-72 flex-1">
            <span className="mb-1 block">A key that an admin made for the service (only admins make keys)</span>
            <Input value={pasted} onChange={setPasted} placeholder="outcrop-key-…" className="w-full font-mono" />
          </label>
        )}
      </form>
      {make.isError && <Callout tone="bad">No key was made: {make.error.message}.</Callout>}
      {key && service && (
        <>
          {make.data && (
            <>
              <p>The key may write for {service} alone. It is shown this once:</p>
              <Code label="Sender key">{make.data.key}</Code>
            </>
          )}
          <Heading className="mt-5">2. Set up the service</Heading>
          <Choices
            name="Language"
            options={GUIDES.map((guide) => guide.language)}
            value={language}
            onChange={setLanguage}
          />
          <p className="text-faint text-[13px]">
            {guide.ran
              ? `A test last followed these steps to the letter on ${guide.ran}, with ${guide.release}${guide.frameworks?.[0] ? ` and ${guide.frameworks[0].name}` : ""}.`
              : `These steps are written from the documents of the SDK, for ${guide.release}; no test of ours has ever run them. Say so if one is wrong.`}{" "}
            By themselves come {guide.covers}.
          </p>
          <div data-steps="run">
            {guide.steps(known).map((step) => (
              <Shown key={step.title} step={step} />
            ))}
          </div>
          <h3 className="mt-4 font-semibold">In the service itself</h3>
          {guide.frameworks && (
            <Choices
              name="Framework"
              options={guide.frameworks.map(({ name }) => name)}
              value={framework?.name}
              onChange={setFrameworkName}
            />
          )}
          {[...(framework?.steps ?? []), ...guide.more].map((step) => (
            <Shown key={step.title} step={step} />
          ))}
          {guide.job && (
            <>
              <h3 className="mt-4 font-semibold">A job or one-off task, which fails on purpose here</h3>
              <div data-steps="job">
                {guide.job.map((step) => (
                  <Shown key={step.title} step={step} />
                ))}
              </div>
            </>
          )}
          <h3 className="mt-4 font-semibold">Where it runs</h3>
          <Choices
            name="Hosting"
            options={HOSTING.map(({ place }) => place)}
            value={place}
            onChange={(name) => setPlace(name === place ? undefined : name)}
          />
          {HOSTING.find((hosting) => hosting.place === place)
            ?.steps(known)
            .map((step) => (
              <Shown key={step.title} step={step} />
            ))}
          <Heading className="mt-5">3. See the first data</Heading>
        </>
      )}
      {waitingFor && <Waiting service={waitingFor} found={items.find((item) => item.service === waitingFor)} />}
    </section>
  );
}

function Shown({ step: { title, code } }: { step: Step }) {
  return (
    <div>
      <p>{title}</p>
      <Code label={title}>{code}</Code>
    </div>
  );
}

function Choices({
  name,
  options,
  value,
  onChange,
}: {
  name: string;
  options: string[];
  value: string | undefined;
  onChange: (value: string) => void;
}) {
  return (
    <div className="my-3 flex flex-wrap gap-2" role="group" aria-label={name}>
      {options.map((option) => (
        <button
          key={option}
          type="button"
          aria-pressed={value === option}
          onClick={() => onChange(option)}
          className="border-line aria-pressed:border-accent rounded-sm border px-3 py-1 aria-pressed:font-semibold"
        >
          {option}
        </button>
      ))}
    </div>
  );
}

/** Follows new data like every page: says at once when the first came. */
function Waiting({ service, found }: { service: string; found: ServiceItem | undefined }) {
  if (!found) {
    return (
      <Callout tone="open">
        Waiting for the first data of <b>{service}</b>. This page says so the moment it is stored.
      </Callout>
    );
  }
  return (
    <Callout tone="good">
      <p>
        <b>{service} reports.</b> Its first data came {agoInWords(found.first_received_at)} (
        {exact(found.first_received_at)}): {counted(found.requests, "request", "requests")} and{" "}
        {counted(found.occurrences, "occurrence", "occurrences")} in 24 h.
      </p>
      {found.sampling && !found.missing.includes(found.sampling) && (
        <p className="text-faint">Its requests: {found.sampling}.</p>
      )}
      <p className="text-faint">
        {found.missing.length === 0
          ? "Nothing is missing for good answers."
          : `Still missing: ${found.missing.join("; ")}.`}
      </p>
      <Link to="/errors" search={{ service }}>
        To its errors
      </Link>
    </Callout>
  );
}

function Reporting({ items }: { items: ServiceItem[] }) {
  return (
    <section aria-label="Services that report">
      <Heading>
        Reporting <span className="text-faint font-normal">in the last 24 h</span>
      </Heading>
      {items.length === 0 && <p className="text-faint py-2">None yet.</p>}
      <ul>
        {items.map((item) => (
          <li
            key={`${item.namespace}/${item.service}`}
            className="border-line flex flex-wrap justify-between gap-x-3 border-b py-1.5"
          >
            <span>
              <Link to="/errors" search={{ service: item.service }}>
                {item.service}
              </Link>{" "}
              <span className="text-faint font-mono text-[13px]">{item.versions.at(-1)}</span>
            </span>
            <span className="text-faint text-right text-[13px]">
              {counted(item.requests, "request", "requests")} · {counted(item.occurrences, "occurrence", "occurrences")}{" "}
              · {ago(item.last_event_at)}
            </span>
            {item.missing.length > 0 && (
              <span className="text-ochre basis-full text-[13px]">{item.missing.join("; ")}</span>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}
