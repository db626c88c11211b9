import { useMutation, useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { type SubmitEvent, type ReactNode, useState } from "react";
import { type KeyItem, api, taken, useIsAdmin, reading, changed } from "../../api/client";
import { agoInWords, count, counted, exact } from "../../ui/format";
import { Code, Failed, Skeleton } from "../../ui/states";
import { Confirm } from "../../ui/dialog";
import { Answer, Button, Heading, Input, Refused } from "../../ui/kit";
import { Refusals } from "../../parts/refusals";

const names = (text: string) => text.split(/[\s,]+/).filter(Boolean);

/** What may send, what was refused, what is dropped. */
export function SendersPage() {
  const keys = useQuery(reading("/api/v1/keys"));
  const mayChange = useIsAdmin();
  if (keys.isPending) return <Skeleton isPage rows={6} />;
  if (keys.isLoadingError)
    return <Failed isPage what="The sender keys" error={keys.error} retry={() => void keys.refetch()} />;
  const items = keys.data.items;
  const inUse = items.filter((key) => !key.revoked_at);
  const active = inUse.filter((key) => key.requests_24h > 0).length;
  const refused = items.reduce((sum, key) => sum + key.refused_24h, 0);
  return (
    <>
      <Answer>
        {inUse.length === 0
          ? "No sender key is in use: nothing can send."
          : `${count(active)} of ${counted(inUse.length, "sender key", "sender keys")} sent something in 24 h${refused > 0 ? `; ${counted(refused, "request of theirs was", "requests of theirs were")} refused` : ""}.`}
      </Answer>
      <div className="mt-4 grid gap-8 lg:grid-cols-[minmax(0,1fr)_22rem]">
        <div className="min-w-0 space-y-8">
          <section aria-label="Sender keys">
            <Head>Sender keys</Head>
            {items.map((key) => (
              <KeyRow key={key.name} item={key} mayChange={mayChange} />
            ))}
            {items.length === 0 && <p className="text-faint py-2">None yet.</p>}
          </section>
          <Dropped mayChange={mayChange} />
        </div>
        <div className="space-y-8">
          {mayChange && <NewKey />}
          <Refusals minutes={60} />
        </div>
      </div>
    </>
  );
}

function Head({ children }: { children: ReactNode }) {
  return <Heading>{children}</Heading>;
}

function KeyRow({ item, mayChange }: { item: KeyItem; mayChange: boolean }) {
  const path = { params: { path: { name: item.name } } };
  const rotate = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/keys/{name}/rotate", { ...path, body: {} })),
    onSuccess: () => changed("/api/v1/keys"),
  });
  const revoke = useMutation({
    mutationFn: () => taken(api.DELETE("/api/v1/keys/{name}", path)),
    onSuccess: () => changed("/api/v1/keys"),
  });
  const bounds = [
    item.services.length > 0 ? item.services.join(", ") : "all services",
    item.environments.length > 0 && `in ${item.environments.join(", ")}`,
    item.bytes_per_minute && `${count(Math.round(item.bytes_per_minute / 1000))} kB a minute`,
  ];
  return (
    <div className={`border-line border-b py-2 ${item.revoked_at ? "text-faint" : ""}`}>
      <div className="flex flex-wrap items-baseline gap-x-4">
        <span className="font-mono font-semibold break-all">{item.name}</span>
        <span className="text-faint text-[13px]">{bounds.filter(Boolean).join(", ")}</span>
        {mayChange && !item.revoked_at && (
          <span className="ml-auto flex gap-2 text-[13px]">
            <Button
              disabled={rotate.isPending}
              onClick={() => rotate.mutate()}
              title="New secret; the old one stays valid for 24 h"
            >
              Rotate
            </Button>
            <Confirm
              label="Revoke …"
              title={`Revoke ${item.name}?`}
              action="Revoke it for good"
              isPending={revoke.isPending}
              onConfirm={() => revoke.mutate()}
            >
              <p>
                Whoever still sends with it is refused from now on. What it sent stays. It cannot be undone; a new key
                can be made.
              </p>
            </Confirm>
          </span>
        )}
      </div>
      <p className="text-faint text-[13px]">
        {item.revoked_at
          ? `Revoked ${agoInWords(item.revoked_at)} (${exact(item.revoked_at)}); what it sent stays.`
          : item.last_used_at
            ? `Last used ${agoInWords(item.last_used_at)}. ${counted(item.requests_24h, "request", "requests")} and ${count(Math.round(item.bytes_24h / 1000))} kB in 24 h${item.refused_24h > 0 ? `, ${count(item.refused_24h)} refused` : ""}.`
            : "Never used."}
        {item.previous_until &&
          !item.revoked_at &&
          ` The secret before the last rotation is taken until ${exact(item.previous_until)}.`}
      </p>
      {rotate.data && (
        <>
          <p className="mt-1">The new secret, shown only now. The old one stays valid for 24 h:</p>
          <Code label={`New secret of ${item.name}`}>{rotate.data.key}</Code>
        </>
      )}
      {(rotate.error ?? revoke.error) && <Refused error={(rotate.error ?? revoke.error) as Error} />}
    </div>
  );
}

function NewKey() {
  const [name, setName] = useState("");
  const [services, setServices] = useState("");
  const [environments, setEnvironments] = useState("");
  const [limit, setLimit] = useState("");
  const make = useMutation({
    mutationFn: () =>
      taken(
        api.POST("/api/v1/keys", {
          body: {
            name,
            services: names(services),
            environments: names(environments),
            bytes_per_minute: limit ? Math.round(Number(limit) * 1_000_000) : null,
          },
        }),
      ),
    onSuccess: () => changed("/api/v1/keys"),
  });
  const send = (event: SubmitEvent) => {
    event.preventDefault();
    make.mutate();
  };
  return (
    <section aria-label="A new key">
      <Head>A new key</Head>
      <form onSubmit={send} className="mt-2 space-y-2">
        <label className="block">
          Name
          <Input
            required
            maxLength={200}
            value={name}
            onChange={setName}
            placeholder="pier-3"
            className="mt-1 block w-full font-mono text-[13px]"
          />
        </label>
        <label className="block">
          Only for services <span className="text-faint">(none: all)</span>
          <Input
            value={services}
            onChange={setServices}
            placeholder="fares, ledger"
            className="mt-1 block w-full font-mono text-[13px]"
          />
        </label>
        <label className="block">
          Only in environments <span className="text-faint">(none: all)</span>
          <Input
            value={environments}
            onChange={setEnvironments}
            placeholder="production"
            className="mt-1 block w-full font-mono text-[13px]"
          />
        </label>
        <label className="block">
          MB a minute at most <span className="text-faint">(none: no limit of its own)</span>
          <Input
            type="number"
            min="0.001"
            step="any"
            value={limit}
            onChange={setLimit}
            placeholder="50"
            className="mt-1 block w-full font-mono text-[13px]"
          />
        </label>
        <Button look="main" type="submit" disabled={make.isPending}>
          Make the key
        </Button>
      </form>
      {make.isError && <Refused error={make.error} />}
      {make.data && (
        <>
          <p className="mt-2">Shown only now. The line to paste:</p>
          <Code label="Line to paste">{`export OTEL_EXPORTER_OTLP_HEADERS=authorization=Bearer%20${make.data.key}`}</Code>
        </>
      )}
    </section>
  );
}

function Dropped({ mayChange }: { mayChange: boolean }) {
  const drops = useQuery(reading("/api/v1/drops"));
  const [where, setWhere] = useState("");
  const [note, setNote] = useState("");
  const make = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/drops", { body: { where, note } })),
    onSuccess: () => {
      setWhere("");
      setNote("");
      return changed("/api/v1/drops");
    },
  });
  const end = useMutation({
    mutationFn: (id: number) => taken(api.DELETE("/api/v1/drops/{id}", { params: { path: { id } } })),
    onSuccess: () => changed("/api/v1/drops"),
  });
  const send = (event: SubmitEvent) => {
    event.preventDefault();
    make.mutate();
  };
  return (
    <section aria-label="Discarded before it is counted">
      <Head>Discarded before it is counted</Head>
      {drops.isLoadingError && <Failed what="The drop rules" error={drops.error} retry={() => void drops.refetch()} />}
      {drops.data?.items.length === 0 && <p className="text-faint py-2">Nothing is dropped: every failure counts.</p>}
      {drops.data?.items.map((rule) => (
        <div
          key={rule.id}
          className={`border-line flex flex-wrap items-baseline gap-x-4 border-b py-2 ${rule.ended_at ? "text-faint" : ""}`}
        >
          <span className="min-w-0 flex-1 break-words">
            {rule.where ? (
              <code className="text-[13px]">{rule.where}</code>
            ) : (
              <Link to="/errors/$ref" params={{ ref: rule.error ?? "" }}>
                {rule.title}
              </Link>
            )}
            <span className="text-faint block text-[13px]">
              {rule.note && `${rule.note}. `}
              {rule.made_by}, {agoInWords(rule.made_at)}
              {rule.ended_at && `; ended ${agoInWords(rule.ended_at)} by ${rule.ended_by}`}
            </span>
          </span>
          <span className="text-[13px] tabular-nums">
            {count(rule.dropped_24h)} in 24 h, {count(rule.dropped)} in 30 days
          </span>
          {mayChange && !rule.ended_at && (
            <Button disabled={end.isPending} onClick={() => end.mutate(rule.id)} className="text-[13px]">
              End
            </Button>
          )}
        </div>
      ))}
      {mayChange && (
        <form onSubmit={send} className="mt-3 flex flex-wrap items-end gap-3">
          <label className="min-w-60 flex-1">
            Drop where
            <Input
              required
              value={where}
              onChange={setWhere}
              placeholder="type = ClientGone and service = gangway"
              className="mt-1 block w-full font-mono text-[13px]"
            />
          </label>
          <label className="w-48">
            Why
            <Input
              value={note}
              onChange={setNote}
              placeholder="passengers close the tab"
              className="mt-1 block w-full font-mono text-[13px]"
            />
          </label>
          {where && (
            <Link to="/errors" search={{ where, since: "7d" }} className="py-1">
              what it would drop
            </Link>
          )}
          <Button look="main" type="submit" disabled={make.isPending}>
            Drop it
          </Button>
        </form>
      )}
      {make.isError && <Refused error={make.error} />}
      {end.isError && <Refused error={end.error} />}
      <p className="text-faint mt-1 text-[13px]">What came before stays. A whole error is dropped from its own page.</p>
    </section>
  );
}
