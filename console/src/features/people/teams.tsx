import { useMutation, useQuery } from "@tanstack/react-query";
import { type SubmitEvent, useState } from "react";
import type { components } from "../../api/generated/schema";
import { api, changed, reading, taken } from "../../api/client";
import { Confirm } from "../../ui/dialog";
import { Button, Heading, Input, Refused } from "../../ui/kit";

type Team = components["schemas"]["TeamItem"];
type Change = components["schemas"]["TeamChange"];
type Props = {
  teams: readonly Team[];
  limited: readonly string[];
  members: readonly components["schemas"]["MemberItem"][];
  isAdmin: boolean;
};

const after = { onSuccess: () => changed("/api/v1/teams", "/api/v1/members", "/api/v1/audit") };

/** Teams, who is in them, what they own, and which services only they may read. */
export function Teams({ teams, limited, members, isAdmin }: Props) {
  const [name, setName] = useState("");
  const services = useQuery({ ...reading("/api/v1/services"), enabled: isAdmin });
  const make = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/teams", { body: { name: name.trim() } })),
    onSuccess: () => {
      setName("");
      return after.onSuccess();
    },
  });
  const send = (event: SubmitEvent) => {
    event.preventDefault();
    make.mutate();
  };
  const known = services.data?.items.map((service) => service.service) ?? [];
  const ownerless = limited.filter((service) => !teams.some((team) => team.services.includes(service)));
  return (
    <section aria-label="Teams">
      <Heading>Teams</Heading>
      {teams.length === 0 && (
        <p className="text-faint py-2">None yet. A team owns services, and is handed their errors.</p>
      )}
      {teams.map((team) => (
        <Row
          key={team.name}
          team={team}
          limited={limited}
          members={members.map((member) => member.email)}
          services={known}
          isAdmin={isAdmin}
        />
      ))}
      {ownerless.length > 0 && (
        <p className="text-brick py-2 text-[13px]">
          Limited, and owned by no team: {ownerless.join(", ")}. Only admins read them until a team owns them.
        </p>
      )}
      {isAdmin && (
        <form onSubmit={send} className="mt-2 flex gap-1.5">
          <Input aria-label="Name of a new team" placeholder="deck team" value={name} onChange={setName} />
          <Button type="submit" disabled={make.isPending || name.trim() === ""}>
            Make the team
          </Button>
        </form>
      )}
      {make.isError && <Refused what="Not made" error={make.error} />}
    </section>
  );
}

type RowProps = { team: Team; limited: readonly string[]; members: string[]; services: string[]; isAdmin: boolean };

function Row({ team, limited, members, services, isAdmin }: RowProps) {
  const params = { path: { name: team.name } };
  const change = useMutation({
    mutationFn: (body: Change) => taken(api.PUT("/api/v1/teams/{name}", { params, body })),
    ...after,
  });
  const limit = useMutation({
    mutationFn: ({ service, is }: { service: string; is: boolean }) =>
      taken(api.PUT("/api/v1/services/{service}/limit", { params: { path: { service } }, body: { limited: is } })),
    ...after,
  });
  const remove = useMutation({
    mutationFn: () => taken(api.DELETE("/api/v1/teams/{name}", { params })),
    ...after,
  });
  const failed = change.error ?? limit.error ?? remove.error;
  return (
    <section aria-label={`Team ${team.name}`} className="border-line border-b py-2">
      <div className="flex flex-wrap items-baseline gap-x-4">
        <h3 className="font-semibold">{team.name}</h3>
        {isAdmin && (
          <span className="ml-auto text-[13px]">
            <Confirm
              label="Remove …"
              title={`Remove ${team.name}?`}
              action="Remove the team"
              isPending={remove.isPending}
              onConfirm={() => remove.mutate()}
            >
              <p>Its members stay. Services that are limited to it alone are then read by admins only.</p>
            </Confirm>
          </span>
        )}
      </div>
      <Names
        what="Members"
        names={team.members}
        more={members.filter((email) => !team.members.includes(email))}
        isAdmin={isAdmin}
        set={(list) => change.mutate({ members: list })}
        none="Nobody is in it."
      />
      <Names
        what="Services"
        names={team.services}
        more={services.filter((service) => !team.services.includes(service))}
        isAdmin={isAdmin}
        set={(list) => change.mutate({ services: list })}
        none="It owns none."
      />
      {team.services.length > 0 && (
        <ul className="text-faint text-[13px]" aria-label={`Who may read the services of ${team.name}`}>
          {team.services.map((service) => (
            <li key={service}>
              <label>
                <input
                  type="checkbox"
                  className="mr-1 size-4 align-[-2px]"
                  disabled={!isAdmin || limit.isPending}
                  checked={limited.includes(service)}
                  onChange={(event) => limit.mutate({ service, is: event.target.checked })}
                />
                {service} is read by its teams and admins only
              </label>
            </li>
          ))}
        </ul>
      )}
      {failed && <Refused error={failed} />}
    </section>
  );
}

type NamesProps = {
  what: string;
  names: readonly string[];
  more: readonly string[];
  isAdmin: boolean;
  set: (names: string[]) => void;
  none: string;
};

/** Names that are in it, each taken out by a button; others are put in. */
function Names({ what, names, more, isAdmin, set, none }: NamesProps) {
  return (
    <div className="flex flex-wrap items-center gap-x-2 gap-y-1 py-1 text-[13px]">
      <span className="text-faint w-16">{what}</span>
      {names.length === 0 && <span className="text-faint">{none}</span>}
      {names.map((name) => (
        <span key={name} className="border-line rounded-sm border px-1.5">
          {name}
          {isAdmin && (
            <button
              type="button"
              aria-label={`Take ${name} out`}
              className="text-faint hover:text-ink ml-1 min-h-6 min-w-6"
              onClick={() => set(names.filter((other) => other !== name))}
            >
              ×
            </button>
          )}
        </span>
      ))}
      {isAdmin && more.length > 0 && (
        <select
          aria-label={`Put into ${what.toLowerCase()}`}
          className="border-line bg-sheet h-7 rounded-sm border px-1"
          value=""
          onChange={(event) => event.target.value && set([...names, event.target.value])}
        >
          <option value="">add …</option>
          {more.map((name) => (
            <option key={name}>{name}</option>
          ))}
        </select>
      )}
    </div>
  );
}
