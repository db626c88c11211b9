import { useMutation, useQuery } from "@tanstack/react-query";
import { type SubmitEvent, useState } from "react";
import { type Scope, api, taken, useMayAct, windowOf, reading, changed } from "../../api/client";
import { count, counted } from "../../ui/format";
import { testOf } from "../../parts/predicate-box";
import { Failed } from "../../ui/states";
import { Button, Input, Select } from "../../ui/kit";

/** Fields that slice the list, as the API calls them. */
const FIELDS = [
  "kind",
  "touches",
  "namespace",
  "endpoint",
  "version",
  "group",
  "customer",
  "host.name",
  "cloud.region",
];

const ANOTHER = "another";

type Props = { scope: Scope; narrow: (test: string) => void; apply: (where: string) => void };

/** Slices of the list: by the values of a field, and saved ones. */
export function Slices({ scope, narrow, apply }: Props) {
  const [by, setBy] = useState("");
  const [other, setOther] = useState("");
  const field = by === ANOTHER ? other : by;
  const saved = useQuery({ ...reading("/api/v1/slices"), staleTime: 10_000 });
  return (
    <div className="mb-2 text-[13px]">
      <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <label>
          Slice by{" "}
          <Select
            value={by}
            options={[
              ["", "…"],
              ...FIELDS.map((name) => [name, name === "group" ? "instance group" : name] as const),
              [ANOTHER, "another field…"],
            ]}
            onChange={setBy}
          />
        </label>
        {by === ANOTHER && <Another choose={setOther} />}
        {(saved.data?.items ?? []).map((slice) => (
          <Saved
            key={slice.name}
            name={slice.name}
            where={slice.where}
            isOn={scope.where?.includes(testOf("slice", slice.name)) ?? false}
            apply={() => apply(testOf("slice", slice.name))}
          />
        ))}
        {scope.where && !scope.where.includes("slice") && <Save where={scope.where} />}
      </div>
      {field && <Values by={field} scope={scope} narrow={narrow} />}
    </div>
  );
}

/** Asks for the name of any field or attribute. */
function Another({ choose }: { choose: (name: string) => void }) {
  const [name, setName] = useState("");
  const send = (event: SubmitEvent) => {
    event.preventDefault();
    choose(name.trim());
  };
  return (
    <form onSubmit={send}>
      <label>
        Field or attribute{" "}
        <Input
          ref={(field) => field?.focus()}
          value={name}
          onChange={setName}
          maxLength={200}
          placeholder="http.route"
          className="w-44 font-mono"
        />
      </label>{" "}
      <Button look="link" type="submit">
        slice
      </Button>
    </form>
  );
}

function Saved({ name, where, isOn, apply }: { name: string; where: string; isOn: boolean; apply: () => void }) {
  const mayChange = useMayAct();
  const remove = useMutation({
    mutationFn: () => taken(api.DELETE("/api/v1/slices/{name}", { params: { path: { name } } })),
    onSuccess: () => changed("/api/v1/slices"),
  });
  return (
    <span className="whitespace-nowrap">
      <button
        type="button"
        onClick={apply}
        title={where}
        aria-pressed={isOn}
        className="text-accent aria-pressed:text-ink hover:underline aria-pressed:font-semibold"
      >
        {name}
      </button>
      {isOn && mayChange && (
        <button
          type="button"
          onClick={() => remove.mutate()}
          aria-label={`Remove the slice ${name}`}
          className="text-faint ml-1 hover:underline"
        >
          remove
        </button>
      )}
    </span>
  );
}

/** Saves the predicate in force under a name. */
function Save({ where }: { where: string }) {
  const [name, setName] = useState<string>();
  const save = useMutation({
    mutationFn: (name: string) =>
      taken(api.PUT("/api/v1/slices/{name}", { params: { path: { name } }, body: { where } })),
    onSuccess: () => {
      setName(undefined);
      return changed("/api/v1/slices");
    },
  });
  if (name === undefined) {
    return (
      <Button look="link" onClick={() => setName("")}>
        save as a slice
      </Button>
    );
  }
  const send = (event: SubmitEvent) => {
    event.preventDefault();
    if (name.trim()) save.mutate(name.trim());
  };
  return (
    <form onSubmit={send} className="flex flex-wrap items-baseline gap-x-2">
      <label>
        Name <Input ref={(field) => field?.focus()} value={name} maxLength={100} onChange={setName} className="w-32" />
      </label>
      <Button look="link" type="submit">
        save
      </Button>
      <button type="button" onClick={() => setName(undefined)} className="text-faint hover:underline">
        leave it
      </button>
      {save.isError && <span role="alert">Not saved: {save.error.message}</span>}
    </form>
  );
}

function Values({ by, scope, narrow }: { by: string; scope: Scope; narrow: (test: string) => void }) {
  const query = { by, service: scope.service, environment: scope.environment, ...windowOf(scope), where: scope.where };
  const parts = useQuery({ ...reading("/api/v1/parts", { params: { query } }), placeholderData: (before) => before });
  if (parts.isPending)
    return <div className="bg-wash mt-1 h-7 motion-safe:animate-pulse" role="status" aria-label="Loading the values" />;
  if (parts.isLoadingError)
    return <Failed what={`The values of ${by}`} error={parts.error} retry={() => void parts.refetch()} />;
  if (parts.data.items.length === 0)
    return (
      <p className="text-faint mt-1">
        No occurrence here has{" "}
        {by === "group" || by === "customer" ? `a ${by}; an attribute is chosen for it in the service settings` : by}.
      </p>
    );
  return (
    <ul className="mt-1.5 flex flex-wrap gap-x-1.5 gap-y-1.5" aria-label={`Values of ${by}`}>
      {parts.data.items.map((part) => (
        <li key={part.value}>
          <button
            type="button"
            onClick={() => narrow(part.where)}
            title={`${counted(part.errors, "error", "errors")}, ${counted(part.occurrences, "occurrence", "occurrences")}, ${counted(part.users, "user", "users")}`}
            className="border-line bg-sheet hover:bg-wash rounded-sm border px-2 py-0.5"
          >
            <bdi className="font-mono">{part.value}</bdi>{" "}
            <span className="text-faint">
              {counted(part.errors, "error", "errors")} · {count(part.occurrences)}
            </span>
          </button>
        </li>
      ))}
    </ul>
  );
}
