import { useMutation, useQuery } from "@tanstack/react-query";
import { useSearch } from "@tanstack/react-router";
import { type FormEvent, useEffect, useState } from "react";
import { type ServiceSettings, api, queryClient, taken, useIsAdmin, useMayAct, useServices } from "../../api/client";
import { Failed, Skeleton } from "../../ui/states";
import { Scrubbing } from "./scrubbing";

const ALL = "all";

const FIELDS: {
  name: "source_url" | "source_root" | "instance_group" | "customer";
  label: string;
  hint: string;
  example: string;
}[] = [
  {
    name: "source_url",
    label: "Link to a line of source",
    hint: "{path}, {line}, {revision} (the commit, else the version) and {service} are filled in.",
    example: "https://git.skerry.example/{service}/{revision}/{path}#L{line}",
  },
  {
    name: "source_root",
    label: "Folder the code runs in",
    hint: "It is no part of the path in the repository.",
    example: "/srv/skerry/fares",
  },
  {
    name: "instance_group",
    label: "Attribute of the instance group",
    hint: "Tells a canary, a region, a customer's instances apart; the field group in predicates.",
    example: "cloud.region",
  },
  {
    name: "customer",
    label: "Attribute of the customer",
    hint: "The field customer in predicates.",
    example: "skerry.port",
  },
];

/** What people say of services: links to source, instance groups, customers. */
export function ServicesPage() {
  const services = useServices();
  const { service: inScope } = useSearch({ from: "/inside" });
  const [chosen, setChosen] = useState<string>();
  const service = chosen ?? inScope ?? ALL;
  if (services.isPending) return <Skeleton rows={6} />;
  if (services.isLoadingError)
    return <Failed what="The services" error={services.error} retry={() => void services.refetch()} />;
  return (
    <>
      <h1 className="text-xl font-bold">Service settings</h1>
      <p className="mt-1">
        <label>
          For{" "}
          <select
            value={service}
            onChange={(event) => setChosen(event.target.value)}
            className="border-line bg-sheet rounded-sm border px-1.5 py-1"
          >
            <option value={ALL}>all services without settings of their own</option>
            {services.data.items.map((item) => (
              <option key={`${item.namespace} ${item.service}`} value={item.service}>
                {item.service}
              </option>
            ))}
          </select>
        </label>
      </p>
      <Settings key={service} service={service} />
      <Scrubbing key={`scrubbing ${service}`} service={service === ALL ? undefined : service} />
    </>
  );
}

function Settings({ service }: { service: string }) {
  const [draft, setDraft] = useState<ServiceSettings>();
  const said = useQuery({
    queryKey: ["service-settings", service],
    queryFn: () => taken(api.GET("/api/v1/services/{service}/settings", { params: { path: { service } } })),
  });
  const mayChange = useMayAct();
  const isAdmin = useIsAdmin();
  useEffect(() => {
    if (said.data && !draft) setDraft(said.data);
  }, [said.data, draft]);
  const save = useMutation({
    mutationFn: (settings: ServiceSettings) =>
      taken(api.PUT("/api/v1/services/{service}/settings", { params: { path: { service } }, body: settings })),
    onSuccess: () => queryClient.invalidateQueries(),
  });
  if (said.isLoadingError)
    return <Failed what={`The settings of ${service}`} error={said.error} retry={() => void said.refetch()} />;
  if (!draft) return <Skeleton rows={4} />;
  const send = (event: FormEvent) => {
    event.preventDefault();
    save.mutate(draft);
  };
  return (
    <form onSubmit={send} className="mt-4 max-w-3xl space-y-4">
      {FIELDS.map(({ name, label, hint, example }) => (
        <label key={name} className="block">
          <span className="font-semibold">{label}</span> <span className="text-faint">{hint}</span>
          <input
            value={draft[name] ?? ""}
            readOnly={!mayChange}
            placeholder={example}
            onChange={(event) => setDraft({ ...draft, [name]: event.target.value })}
            className="border-line bg-sheet mt-1 block w-full rounded-sm border px-3 py-1.5 font-mono text-[13px]"
          />
        </label>
      ))}
      <fieldset disabled={!isAdmin}>
        <legend className="font-semibold">E-mail addresses{isAdmin ? "" : " (an admin can change this)"}</legend>
        {(
          [
            [null, service === ALL ? "hidden behind pseudonyms, as built in" : "as said for all services"],
            [false, "hidden: a pseudonym stands for each, so that users can still be counted and found"],
            [true, "kept as they are sent"],
          ] as const
        ).map(([value, label]) => (
          <label key={label} className="flex items-baseline gap-2">
            <input
              type="radio"
              name="addresses"
              checked={(draft.keep_addresses ?? null) === value}
              onChange={() => setDraft({ ...draft, keep_addresses: value })}
            />
            {label}
          </label>
        ))}
      </fieldset>
      {service !== ALL && <Weights draft={draft} onChange={setDraft} mayChange={mayChange} />}
      {save.isError && (
        <p role="alert" className="border-brick bg-sheet border-l-4 px-3 py-2">
          Not saved: {save.error.message}
        </p>
      )}
      {save.isSuccess && !save.isPending && (
        <p role="status" className="border-moss bg-sheet border-l-4 px-3 py-2">
          Saved. It holds from now on.
        </p>
      )}
      {mayChange ? (
        <button
          type="submit"
          disabled={save.isPending}
          className="bg-accent text-on-accent rounded-sm px-4 py-1.5 font-semibold disabled:opacity-60"
        >
          Save
        </button>
      ) : (
        <p className="text-faint">An engineer can change this.</p>
      )}
    </form>
  );
}

type WeightsProps = { draft: ServiceSettings; onChange: (draft: ServiceSettings) => void; mayChange: boolean };

/** What attention to errors of the service, and of single endpoints, is multiplied with. */
function Weights({ draft, onChange, mayChange }: WeightsProps) {
  const endpoints = draft.endpoint_weights ?? [];
  const change = (at: number, next: { endpoint: string; factor: number } | null) =>
    onChange({
      ...draft,
      endpoint_weights: endpoints.flatMap((one, place) => (place !== at ? [one] : next ? [next] : [])),
    });
  const factor = (label: string, value: number, onValue: (value: number) => void) => (
    <input
      type="number"
      aria-label={label}
      min={0.1}
      max={4}
      step={0.1}
      value={value}
      onChange={(event) => onValue(event.target.valueAsNumber || 1)}
      className="border-line bg-sheet w-20 rounded-sm border px-2 py-1 font-mono text-[13px]"
    />
  );
  return (
    <fieldset disabled={!mayChange}>
      <legend className="font-semibold">
        Weight in the ranking{" "}
        <span className="text-faint font-normal">Factor for the attention of its errors, 0.1 to 4.</span>
      </legend>
      <p className="mt-1 flex items-center gap-2">
        {factor("Weight of the service", draft.weight ?? 1, (weight) =>
          onChange({ ...draft, weight: weight === 1 ? null : weight }),
        )}{" "}
        at all its endpoints, but
      </p>
      {endpoints.map((one, at) => (
        <p key={at} className="mt-1 flex items-center gap-2">
          {factor(`Weight of endpoint ${at + 1}`, one.factor, (value) => change(at, { ...one, factor: value }))} at
          <input
            aria-label={`Endpoint ${at + 1}`}
            required
            value={one.endpoint}
            placeholder="GET /internal/health"
            onChange={(event) => change(at, { ...one, endpoint: event.target.value })}
            className="border-line bg-sheet min-w-0 flex-1 rounded-sm border px-2 py-1 font-mono text-[13px]"
          />
          <button type="button" onClick={() => change(at, null)} className="text-accent hover:underline">
            take away
          </button>
        </p>
      ))}
      {mayChange && (
        <button
          type="button"
          onClick={() => onChange({ ...draft, endpoint_weights: [...endpoints, { endpoint: "", factor: 0.5 }] })}
          className="text-accent mt-1 hover:underline"
        >
          {endpoints.length === 0 ? "weigh an endpoint by itself" : "another endpoint"}
        </button>
      )}
    </fieldset>
  );
}
