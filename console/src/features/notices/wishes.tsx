import { useMutation, useQuery } from "@tanstack/react-query";
import { type SubmitEvent, useState } from "react";
import { api, changed, reading, taken, useServices } from "../../api/client";
import type { components } from "../../api/generated/schema";
import { Button, Callout, Field, Heading, Refused, Select } from "../../ui/kit";
import { Failed, Skeleton } from "../../ui/states";
import { DAYS } from "./rule-words";
import { Checks } from "./slot";

type Wish = components["schemas"]["NoticeWishes"];
type PaceOf = components["schemas"]["PaceOf"];

const PACES: [string, string][] = [
  ["at-once", "at once"],
  ["daily", "once a day, in a digest"],
  ["nothing", "not at all"],
];

/** How whoever is signed in wants to be told. */
export function Wishes() {
  const wishes = useQuery({ ...reading("/api/v1/notice-wishes"), refetchOnWindowFocus: false });
  if (wishes.isPending) return <Skeleton rows={6} />;
  if (wishes.isLoadingError)
    return <Failed what="What you wish" error={wishes.error} retry={() => void wishes.refetch()} />;
  return (
    <div className="mt-4 grid gap-8 lg:grid-cols-2">
      <Form saved={wishes.data} />
      <BrowserNotices />
    </div>
  );
}

function Form({ saved }: { saved: Wish }) {
  const [wish, set] = useState(saved);
  const services = useServices().data?.items.map((item) => item.service) ?? [];
  const teams = useQuery(reading("/api/v1/teams")).data?.items.map((team) => team.name) ?? [];
  const save = useMutation({
    mutationFn: () => taken(api.PUT("/api/v1/notice-wishes", { body: wish })),
    onSuccess: (next) => {
      set(next);
      return changed("/api/v1/notice-wishes");
    },
  });
  const send = (event: SubmitEvent) => {
    event.preventDefault();
    save.mutate();
  };
  const { hours } = wish;
  return (
    <form onSubmit={send} aria-label="How you are told" className="space-y-4">
      <Heading>How you are told</Heading>
      <label className="block">
        <span className="font-semibold">Of what rules tell you, you hear</span>{" "}
        <Select value={wish.pace} options={PACES} onChange={(pace) => set({ ...wish, pace })} />
      </label>
      <Paces
        legend="Of single services"
        names={[...new Set(services)]}
        paces={wish.services ?? []}
        onChange={(paces) => set({ ...wish, services: paces })}
      />
      <Paces
        legend="As one of a team"
        names={teams}
        paces={wish.teams ?? []}
        onChange={(paces) => set({ ...wish, teams: paces })}
      />
      <label className="flex items-baseline gap-2">
        <input
          type="checkbox"
          checked={Boolean(hours)}
          onChange={(event) =>
            set({ ...wish, hours: event.target.checked ? { from: "08:00", to: "17:00", days: [] } : null })
          }
        />
        Only at certain hours; what happens outside waits for them
      </label>
      {hours && (
        <div className="ml-6 space-y-2">
          <div className="grid max-w-60 grid-cols-2 gap-2">
            <Field
              label="From"
              type="time"
              value={hours.from}
              onChange={(from) => set({ ...wish, hours: { ...hours, from } })}
            />
            <Field
              label="To"
              type="time"
              value={hours.to}
              onChange={(to) => set({ ...wish, hours: { ...hours, to } })}
            />
          </div>
          <Checks
            legend="On"
            options={DAYS}
            chosen={hours.days?.length ? hours.days : DAYS.map(([day]) => day)}
            onChange={(days) => set({ ...wish, hours: { ...hours, days: days.length === DAYS.length ? [] : days } })}
          />
          <label className="flex items-baseline gap-2">
            <input
              type="checkbox"
              checked={wish.uncaught_at_any_hour ?? false}
              onChange={(event) => set({ ...wish, uncaught_at_any_hour: event.target.checked })}
            />
            Uncaught errors at any hour
          </label>
        </div>
      )}
      <div className="grid max-w-md grid-cols-2 gap-2">
        <Field label="Your time zone" value={wish.zone} onChange={(zone) => set({ ...wish, zone })} />
        <Field
          label="Digest at"
          type="time"
          value={wish.digest_at}
          onChange={(digest_at) => set({ ...wish, digest_at })}
        />
      </div>
      <Button look="main" type="submit" disabled={save.isPending}>
        Save
      </Button>
      {save.isSuccess && <Callout tone="good">Saved.</Callout>}
      {save.isError && <Refused what="Not saved" error={save.error} />}
    </form>
  );
}

type PacesProps = { legend: string; names: string[]; paces: PaceOf[]; onChange: (paces: PaceOf[]) => void };

/** Names of which something else is wished. */
function Paces({ legend, names, paces, onChange }: PacesProps) {
  const rest = names.filter((name) => !paces.some((pace) => pace.name === name));
  return (
    <fieldset>
      <legend className="font-semibold">{legend}</legend>
      {paces.map((pace) => (
        <p key={pace.name} className="flex items-baseline gap-2 py-0.5">
          {pace.name}
          <Select
            label={`Pace of ${pace.name}`}
            value={pace.pace}
            options={PACES}
            onChange={(next) => onChange(paces.map((each) => (each === pace ? { ...each, pace: next } : each)))}
          />
          <Button look="link" onClick={() => onChange(paces.filter((each) => each !== pace))}>
            take away
          </Button>
        </p>
      ))}
      {rest.length > 0 && (
        <Select
          label={`${legend}: add`}
          value=""
          options={[["", "add …"], ...rest.map((name) => [name, name] as const)]}
          onChange={(name) => name && onChange([...paces, { name, pace: "at-once" }])}
        />
      )}
    </fieldset>
  );
}

/** Notices of the browser need its permission, which only a click may ask for. */
function BrowserNotices() {
  const [permission, setPermission] = useState(() => ("Notification" in window ? Notification.permission : "unknown"));
  return (
    <section aria-label="This browser">
      <Heading>This browser</Heading>
      {permission === "granted" && (
        <p className="mt-2">Notices by browser are shown on this machine while a page of Outcrop is open.</p>
      )}
      {permission === "denied" && (
        <p className="mt-2">This browser was told not to show notices of Outcrop; its settings change that.</p>
      )}
      {permission === "unknown" && (
        <p className="mt-2">This browser shows no notices, or not over plain http: use https, or another way.</p>
      )}
      {permission === "default" && (
        <>
          <p className="mt-2">Notices by browser are shown while a page of Outcrop is open, once you let it.</p>
          <p className="mt-2">
            <Button onClick={() => void Notification.requestPermission().then(setPermission)}>
              Let this browser show notices
            </Button>
          </p>
        </>
      )}
    </section>
  );
}
