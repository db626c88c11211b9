import { useMutation, useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { type TokenItem, api, queryClient, taken } from "../../api/client";
import { agoInWords, exact } from "../../ui/format";
import { Failed, Skeleton } from "../../ui/states";
import { BUTTON, INPUT, Refused } from "../senders/parts";

const KEY = ["tokens"];
/** How long a token may last, in days; 0 stands for no end. */
const LIVES = [30, 90, 365, 0];

/** Tokens for the command line, for pipelines and editors. */
export function Tokens() {
  const tokens = useQuery({ queryKey: KEY, queryFn: () => taken(api.GET("/api/v1/tokens")) });
  const revoke = useMutation({
    mutationFn: (id: number) => taken(api.DELETE("/api/v1/tokens/{id}", { params: { path: { id } } })),
    onSuccess: () => queryClient.invalidateQueries({ queryKey: KEY }),
  });
  const inUse = tokens.data?.items.filter((token) => !token.revoked_at);
  return (
    <section aria-label="Tokens" className="mt-10">
      <h2 className="border-line border-b pb-1 font-semibold">Tokens</h2>
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
            <button
              type="button"
              className={BUTTON}
              disabled={revoke.isPending}
              onClick={() => revoke.mutate(token.id)}
            >
              Revoke token
            </button>
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
    onSuccess: () => queryClient.invalidateQueries({ queryKey: KEY }),
  });
  const send = (event: FormEvent) => {
    event.preventDefault();
    make.mutate();
  };
  return (
    <form onSubmit={send} className="mt-3 flex flex-wrap items-end gap-3">
      <label className="w-64">
        What the token is for
        <input value={name} maxLength={200} onChange={(event) => setName(event.target.value)} className={INPUT} />
      </label>
      <label>
        Lasts
        <select value={days} onChange={(event) => setDays(Number(event.target.value))} className={INPUT}>
          {LIVES.map((life) => (
            <option key={life} value={life}>
              {life ? `${life} days` : "until revoked"}
            </option>
          ))}
        </select>
      </label>
      <label className="flex items-baseline gap-2 pb-1">
        <input type="checkbox" checked={pipeline} onChange={(event) => setPipeline(event.target.checked)} /> deploys
        only, for a pipeline
      </label>
      <button type="submit" className={BUTTON} disabled={make.isPending}>
        Make token
      </button>
      {make.isError && <Refused error={make.error} />}
      {make.data && (
        <p role="status" className="border-moss bg-sheet w-full border-l-4 px-3 py-2">
          Shown now and never again:{" "}
          <code className="font-mono text-[13px] break-all select-all">{make.data.token}</code>
        </p>
      )}
    </form>
  );
}
