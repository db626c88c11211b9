import { useMutation, useQuery } from "@tanstack/react-query";
import { useSearch } from "@tanstack/react-router";
import { type SubmitEvent, useState } from "react";
import {
  type ServiceSettings,
  api,
  queryClient,
  taken,
  useIsAdmin,
  useMayAct,
  useServices,
  reading,
} from "../../api/client";
import { Failed, Skeleton } from "../../ui/states";
import { Scrubbing } from "./scrubbing";
import { Answer, Button, Callout, Input, Select } from "../../ui/kit";

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
  if (services.isPending) return <Skeleton isPage rows={6} />;
  if (services.isLoadingError)
    return <Failed isPage what="The services" error={services.error} retry={() => void services.refetch()} />;
  return (
    <>
      <Answer>Service settings</Answer>
      <p className="mt-1">
        <label>
          For{" "}
          <Select
            value={service}
            options={[
              [ALL, "all services without settings of their own"],
              ...[...new Set(services.data.items.map((item) => item.service))].map((name) => [name, name] as const),
            ]}
            onChange={setChosen}
          />
        </label>
      </p>
      <Settings key={service} service={service} />
      <Scrubbing key={`scrubbing ${service}`} service={service === ALL ? undefined : service} />
    </>
  );
}

function Settings({ service }: { service: string }) {
  const [edited, setDraft] = useState<ServiceSettings>();
  const said = useQuery(reading("/api/v1/services/{service}/settings", { params: { path: { service } } }));
  const draft = edited ?? said.data;
  const mayChange = useMayAct();
  const isAdmin = useIsAdmin();
  const save = useMutation({
    mutationFn: (settings: ServiceSettings) =>
      taken(api.PUT("/api/v1/services/{service}/settings", { params: { path: { service } }, body: settings })),
    onSuccess: () => queryClient.invalidateQueries(),
  });
  if (said.isLoadingError)
    return <Failed what={`The settings of ${service}`} error={said.error} retry={() => void said.refetch()} />;
  if (!draft) return <Skeleton rows={4} />;
  const send = (event: SubmitEvent) => {
    event.preventDefault();
    save.mutate(draft);
  };
  return (
    <form onSubmit={send} className="mt-4 max-w-3xl space-y-4">
      {FIELDS.map(({ name, label, hint, example }) => (
        <label key={name} className="block">
          <span className="font-semibold">{label}</span> <span className="text-faint">{hint}</span>
          <Input
            value={draft[name] ?? ""}
            readOnly={!mayChange}
            placeholder={example}
            onChange={(value) => setDraft({ ...draft, [name]: value })}
            className="mt-1 block w-full font-mono text-[13px]"
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
      {save.isError && <Callout tone="bad">Not saved: {save.error.message}</Callout>}
      {save.isSuccess && <Callout tone="good">Saved. It holds from now on.</Callout>}
      {mayChange ? (
        <Button look="main" type="submit" disabled={save.isPending}>
          Save
        </Button>
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
          <Input
            aria-label={`Endpoint ${at + 1}`}
            required
            value={one.endpoint}
            placeholder="GET /internal/health"
            onChange={(value) => change(at, { ...one, endpoint: value })}
            className="min-w-0 flex-1 font-mono text-[13px]"
          />
          <Button look="link" onClick={() => change(at, null)}>
            take away
          </Button>
        </p>
      ))}
      {mayChange && (
        <Button
          look="link"
          onClick={() => onChange({ ...draft, endpoint_weights: [...endpoints, { endpoint: "", factor: 0.5 }] })}
          className="mt-1"
        >
          {endpoints.length === 0 ? "weigh an endpoint by itself" : "another endpoint"}
        </Button>
      )}
    </fieldset>
  );
}
