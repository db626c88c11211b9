import { useMutation, useQuery } from "@tanstack/react-query";
import { type SubmitEvent, useState } from "react";
import { type ScrubRuleItem, api, taken, useIsAdmin, reading, changed } from "../../api/client";
import { Failed, Skeleton } from "../../ui/states";
import { Callout, Button, Heading, Input, Refused, Select, TextArea } from "../../ui/kit";
import { Ago } from "../../ui/time";

const VERBS = {
  remove: {
    label: "remove by name",
    example: "passport number",
    hint: "Values under names that end with these words, whatever their dress: passportNumber, PASSPORT_NUMBER, skerry.passport-number.",
  },
  shape: { label: "remove by shape", example: "SK-[0-9]{8}", hint: "What this regular expression finds in any text." },
  keep: { label: "keep by name", example: "client.address", hint: "Values that a built-in name would remove." },
} as const;
type Verb = keyof typeof VERBS;

/** What is removed of a service's data before anything is stored; `service` undefined: of all services. */
export function Scrubbing({ service }: { service: string | undefined }) {
  const rules = useQuery(reading("/api/v1/scrubbing"));
  const mayChange = useIsAdmin();
  if (rules.isPending) return <Skeleton rows={3} />;
  if (rules.isLoadingError)
    return <Failed what="The rules of scrubbing" error={rules.error} retry={() => void rules.refetch()} />;
  const inForce = rules.data.items.filter((rule) => !rule.ended_at && (!rule.service || rule.service === service));
  return (
    <section aria-label="Scrubbing" className="mt-8 max-w-3xl">
      <Heading>Removed before anything is stored</Heading>
      <p className="text-faint py-1">
        Built in: passwords, secrets, tokens, keys, cookies, sessions, credentials, card numbers and client addresses. A
        mark with the reason stands in the place of each.
      </p>
      {inForce.length === 0 ? (
        <p className="py-1">Nobody has added a rule{service ? ` for ${service}` : " for all services"}.</p>
      ) : (
        <ul aria-label="Rules in force">
          {inForce.map((rule) => (
            <Rule key={rule.id} rule={rule} mayChange={mayChange} />
          ))}
        </ul>
      )}
      {mayChange && <NewRule service={service} />}
    </section>
  );
}

function Rule({ rule, mayChange }: { rule: ScrubRuleItem; mayChange: boolean }) {
  const end = useMutation({
    mutationFn: () => taken(api.DELETE("/api/v1/scrubbing/{id}", { params: { path: { id: rule.id } } })),
    onSuccess: () => changed("/api/v1/scrubbing"),
  });
  return (
    <li className="border-line flex flex-wrap items-baseline gap-x-3 border-b py-1.5">
      <span>{rule.verb === "keep" ? "keep" : rule.verb === "shape" ? "remove what looks like" : "remove"}</span>
      <code className="font-mono text-[13px] break-all">{rule.what}</code>
      {rule.reason && rule.reason !== rule.what && <span className="text-faint">as “{rule.reason}”</span>}
      <span className="text-faint text-[13px]">
        {rule.service ? "" : "for all services, "}by {rule.made_by} <Ago at={rule.made_at} />
      </span>
      {mayChange && (
        <Button disabled={end.isPending} onClick={() => end.mutate()} className="ml-auto text-[13px]">
          End it
        </Button>
      )}
      {end.isError && <Refused error={end.error} />}
    </li>
  );
}

function NewRule({ service }: { service: string | undefined }) {
  const [verb, setVerb] = useState<Verb>("remove");
  const [what, setWhat] = useState("");
  const [reason, setReason] = useState("");
  const [text, setText] = useState("");
  const rule = { service: service ?? null, verb, what, reason: reason || null };
  const make = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/scrubbing", { body: rule })),
    onSuccess: async () => {
      setWhat("");
      setReason("");
      await changed("/api/v1/scrubbing");
    },
  });
  const attempt = useMutation({
    mutationFn: () =>
      taken(api.POST("/api/v1/scrubbing/try", { body: { service: service ?? null, text, rule: what ? rule : null } })),
  });
  const send = (event: SubmitEvent) => {
    event.preventDefault();
    make.mutate();
  };
  return (
    <form onSubmit={send} className="mt-3 space-y-2" aria-label="A rule of scrubbing">
      <div className="flex flex-wrap items-end gap-3">
        <label>
          Another rule
          <Select
            value={verb}
            options={(Object.keys(VERBS) as Verb[]).map((name) => [name, VERBS[name].label] as const)}
            onChange={setVerb}
            className="mt-1 block"
          />
        </label>
        <label className="min-w-48 flex-1">
          {verb === "shape" ? "Regular expression" : "Name"}
          <Input
            required
            value={what}
            placeholder={VERBS[verb].example}
            onChange={setWhat}
            className="mt-1 block w-full font-mono text-[13px]"
          />
        </label>
        {verb !== "keep" && (
          <label className="w-48">
            The mark says
            <Input
              value={reason}
              placeholder={verb === "remove" ? "the name" : "booking code"}
              onChange={setReason}
              className="mt-1 block w-full font-mono text-[13px]"
            />
          </label>
        )}
        <Button type="submit" disabled={make.isPending || !what}>
          Hold from now on
        </Button>
      </div>
      <p className="text-faint text-[13px]">{VERBS[verb].hint} What is stored already stays as it is.</p>
      {make.isError && <Refused error={make.error} />}
      <label className="block">
        Try it on a text
        <TextArea
          value={text}
          rows={2}
          placeholder="no berth for SK-20260001&#10;passport_number=X1234567&pier=7"
          onChange={setText}
          className="mt-1 block w-full"
        />
      </label>
      <Button disabled={!text || attempt.isPending} onClick={() => attempt.mutate()}>
        Show what would be stored
      </Button>
      {attempt.isError && <Refused error={attempt.error} />}
      {attempt.isSuccess && (
        <Callout tone="good">
          {attempt.data.changed ? "It would be stored like this:" : "Nothing of it would be removed:"}
          <pre className="mt-1 font-mono text-[13px] break-all whitespace-pre-wrap">{attempt.data.text}</pre>
        </Callout>
      )}
    </form>
  );
}
