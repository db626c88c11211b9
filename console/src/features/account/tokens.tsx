import { useMutation, useQuery } from "@tanstack/react-query";
import { type SubmitEvent, useState } from "react";
import { type TokenItem, api, taken, reading, changed } from "../../api/client";
import { agoInWords, exact } from "../../ui/format";
import { Failed, Skeleton } from "../../ui/states";
import { Confirm } from "../../ui/dialog";
import { Button, Callout, Heading, Input, Refused, Select } from "../../ui/kit";

/** How long a token may last, in days; 0 stands for no end. */
const LIVES = [30, 90, 365, 0];

/** Tokens for the command line, for pipelines and editors. */
export function Tokens() {
  const tokens = useQuery(reading("/api/v1/tokens"));
  const revoke = useMutation({
    mutationFn: (id: number) => taken(api.DELETE("/api/v1/tokens/{id}", { params: { path: { id } } })),
    onSuccess: () => changed("/api/v1/tokens"),
  });
  const inUse = tokens.data?.items.filter((token) => !token.revoked_at);
  return (
    <section aria-label="Tokens" className="mt-10">
      <Heading>Tokens</Heading>
      {tokens.isPending && <Skeleton rows={2} />}
      {tokens.isLoadingError && <Failed what="Your tokens" error={tokens.error} retry={() => void tokens.refetch()} />}
      {inUse?.length === 0 && (
        <p className="text-faint py-1.5">You have no token. The command line and pipelines need one.</p>
      )}
      <ul>
        {inUse?.map((token) => (
          <li key={token.id} className="border-line flex flex-wrap items-baseline gap-x-4 border-b py-1.5">
            <span className="min-w-0 flex-1 truncate">
              {token.name || "without a name"}
              {token.pipeline && <span className="text-faint"> · deploys only</span>}
            </span>
            <span className="text-faint">
              {token.last_used_at ? `last used ${agoInWords(token.last_used_at)}` : "never used"}
            </span>
            <span className="text-faint">{end(token)}</span>
            <Confirm
              label="Revoke …"
              title={`Revoke the token ${token.name || "without a name"}?`}
              action="Revoke it for good"
              isPending={revoke.isPending}
              onConfirm={() => revoke.mutate(token.id)}
            >
              <p>Whatever uses it is refused from now on. It cannot be undone; a new token can be made.</p>
            </Confirm>
          </li>
        ))}
      </ul>
      {revoke.isError && <Refused error={revoke.error} />}
      <NewToken />
    </section>
  );
}

function end({ expires_at }: TokenItem): string {
  if (!expires_at) return "no end";
  return `${Date.parse(expires_at) < Date.now() ? "expired" : "until"} ${exact(expires_at)}`;
}

function NewToken() {
  const [name, setName] = useState("");
  const [days, setDays] = useState(90);
  const [pipeline, setPipeline] = useState(false);
  const make = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/tokens", { body: { name, pipeline, days: days || null } })),
    onSuccess: () => changed("/api/v1/tokens"),
  });
  const send = (event: SubmitEvent) => {
    event.preventDefault();
    make.mutate();
  };
  return (
    <form onSubmit={send} className="mt-3 flex flex-wrap items-end gap-3">
      <label className="w-64">
        What the token is for
        <Input value={name} maxLength={200} onChange={setName} className="mt-1 block w-full font-mono text-[13px]" />
      </label>
      <label>
        Lasts
        <Select
          value={String(days)}
          options={LIVES.map((life) => [String(life), life ? `${life} days` : "until revoked"] as const)}
          onChange={(life) => setDays(Number(life))}
          className="mt-1 block"
        />
      </label>
      <label className="flex items-baseline gap-2 pb-1">
        <input type="checkbox" checked={pipeline} onChange={(event) => setPipeline(event.target.checked)} /> deploys
        only, for a pipeline
      </label>
      <Button type="submit" disabled={make.isPending}>
        Make token
      </Button>
      {make.isError && <Refused error={make.error} />}
      {make.data && (
        <Callout tone="good">
          Shown now and never again:{" "}
          <code className="font-mono text-[13px] break-all select-all">{make.data.token}</code>
        </Callout>
      )}
    </form>
  );
}
