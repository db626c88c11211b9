import { useMutation, useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { type SubmitEvent, useState } from "react";
import type { components } from "../../api/generated/schema";
import { api, changed, reading, taken, useMayAct } from "../../api/client";
import { counted } from "../../ui/format";
import { Answer, Button, Field, Heading, Refused, Select } from "../../ui/kit";
import { Failed, Skeleton } from "../../ui/states";

type Rule = components["schemas"]["OwnerRuleItem"];
type ServiceOwner = components["schemas"]["ServiceOwner"];

const after = { onSuccess: () => changed("/api/v1/owners", "/api/v1/errors/{ref}/handling", "/api/v1/audit") };

/** Who owns which service and error, and what nobody owns. */
export function OwnersPage() {
  const owners = useQuery(reading("/api/v1/owners"));
  const mayAct = useMayAct();
  if (owners.isPending) return <Skeleton isPage rows={6} />;
  if (owners.isLoadingError)
    return <Failed isPage what="The owners" error={owners.error} retry={() => void owners.refetch()} />;
  const { rules, services } = owners.data;
  const left = services.filter((service) => !service.owner);
  const errors = services.reduce((sum, service) => sum + service.ownerless.length, 0);
  return (
    <>
      <Answer>
        {left.length === 0
          ? "Every service has an owner."
          : `Nobody owns ${left.length} of ${counted(services.length, "service", "services")}.`}{" "}
        {errors > 0 && `${counted(errors, "error", "errors")} of the last 24 h are nobody's.`}
      </Answer>
      <div className="mt-4 grid gap-8 lg:grid-cols-[minmax(0,1fr)_24rem]">
        <section aria-label="Services and their owners" className="min-w-0">
          <Heading>Services</Heading>
          <ul>
            {services.map((service) => (
              <Service key={service.service} item={service} />
            ))}
          </ul>
        </section>
        <div className="space-y-8">
          <section aria-label="Rules">
            <Heading>Rules</Heading>
            {rules.length === 0 && (
              <p className="text-faint py-2">
                None. A team owns the services it has on <Link to="/people">People and teams</Link>, and the CODEOWNERS
                of a deploy own their files.
              </p>
            )}
            <ul className="text-[13px]">
              {rules.map((rule) => (
                <RuleRow key={rule.id} rule={rule} mayAct={mayAct} />
              ))}
            </ul>
          </section>
          {mayAct && <NewRule services={services.map((service) => service.service)} />}
        </div>
      </div>
    </>
  );
}

function Service({ item }: { item: ServiceOwner }) {
  return (
    <li className="border-line border-b py-2">
      <div className="flex flex-wrap items-baseline gap-x-4">
        <span className="font-semibold">{item.service}</span>
        <span className={item.owner ? "" : "text-brick"}>
          {item.owner ?? "nobody"}
          {item.because && <span className="text-faint"> {item.because}</span>}
        </span>
        <span className="text-faint ml-auto text-[13px]">{counted(item.errors, "error", "errors")} in 24 h</span>
      </div>
      {item.ownerless.length > 0 && (
        <p className="text-[13px]">
          nobody&apos;s:{" "}
          {item.ownerless.map((ref, place) => (
            <span key={ref}>
              {place > 0 && ", "}
              <Link to="/errors/$ref" params={{ ref }} className="font-mono">
                {ref}
              </Link>
            </span>
          ))}
        </p>
      )}
    </li>
  );
}

function RuleRow({ rule, mayAct }: { rule: Rule; mayAct: boolean }) {
  const remove = useMutation({
    mutationFn: () => taken(api.DELETE("/api/v1/owners/{id}", { params: { path: { id: rule.id } } })),
    ...after,
  });
  return (
    <li className="border-line flex flex-wrap items-baseline gap-x-2 border-b py-1">
      <span className="break-words">
        <b>{rule.rule.owner}</b> owns {rule.about}
        {rule.rule.hand_over && ", and is handed new errors"}
        {rule.rule.make_ticket && ", with a ticket each"}
      </span>
      {mayAct && (
        <Button look="link" className="ml-auto" disabled={remove.isPending} onClick={() => remove.mutate()}>
          remove
        </Button>
      )}
      {remove.isError && <Refused error={remove.error} />}
    </li>
  );
}

function NewRule({ services }: { services: string[] }) {
  const teams = useQuery(reading("/api/v1/teams"));
  const members = useQuery(reading("/api/v1/members"));
  const known = [
    ...(teams.data?.items.map((team) => team.name) ?? []),
    ...(members.data?.items.map((member) => member.email) ?? []),
  ];
  const [owner, setOwner] = useState("");
  const [service, setService] = useState("");
  const [namespace, setNamespace] = useState("");
  const [path, setPath] = useState("");
  const [where, setWhere] = useState("");
  const [handsOver, setHandsOver] = useState(true);
  const [makesTicket, setMakesTicket] = useState(false);
  const tracker = useQuery(reading("/api/v1/tracker"));
  const make = useMutation({
    mutationFn: () =>
      taken(
        api.POST("/api/v1/owners", {
          body: {
            owner,
            hand_over: handsOver,
            make_ticket: makesTicket,
            ...(service && { service }),
            ...(namespace && { namespace }),
            ...(path && { path }),
            ...(where && { where }),
          },
        }),
      ),
    onSuccess: () => {
      setPath("");
      setWhere("");
      return after.onSuccess();
    },
  });
  const send = (event: SubmitEvent) => {
    event.preventDefault();
    make.mutate();
  };
  const choices = (names: string[], none: string) =>
    [["", none], ...names.map((name) => [name, name])] as [string, string][];
  return (
    <section aria-label="A new rule">
      <Heading>A new rule</Heading>
      <form onSubmit={send} className="mt-2 space-y-2">
        <label className="block">
          Owner
          <Select
            label="Owner"
            value={owner}
            options={choices(known, "choose …")}
            onChange={setOwner}
            className="block w-full"
          />
        </label>
        <label className="block">
          Service
          <Select
            label="Service"
            value={service}
            options={choices(services, "any")}
            onChange={setService}
            className="block w-full"
          />
        </label>
        <Field label="Namespace" hint="any" value={namespace} onChange={setNamespace} />
        <Field isCode label="Path in the repository" placeholder="app/tariff/**" value={path} onChange={setPath} />
        <Field isCode label="Predicate" placeholder="status = 503" value={where} onChange={setWhere} />
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            className="size-4"
            checked={handsOver}
            onChange={(event) => setHandsOver(event.target.checked)}
          />
          New errors go to the owner by themselves
        </label>
        {tracker.data?.is_set && (
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              className="size-4"
              checked={makesTicket}
              onChange={(event) => setMakesTicket(event.target.checked)}
            />
            New errors get a ticket
          </label>
        )}
        <p className="text-faint text-[13px]">
          A rule that names nothing is of what nobody else owns. Of several that fit, the one that tells most closely
          what it is about counts: path or predicate, then service, then namespace.
        </p>
        <Button type="submit" disabled={make.isPending || owner === ""}>
          Make the rule
        </Button>
        {make.isError && <Refused what="Not made" error={make.error} />}
      </form>
    </section>
  );
}
