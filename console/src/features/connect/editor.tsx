import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, reading, taken, useMember } from "../../api/client";
import { useEvery } from "../../api/live";
import { Button, Callout, Heading, Refused, Select } from "../../ui/kit";
import { Code } from "../../ui/states";
import { Ago } from "../../ui/time";
import { FORMS, type Form, TRIALS, editorSetup, said } from "./editor-setup";

/** What the token of an editor is called. */
const NAME = "editor";

/** Calls a tool as an editor does: with the token alone. */
async function call(token: string, name: string, args: object): Promise<string> {
  const answer = await fetch("/mcp", {
    method: "POST",
    credentials: "omit",
    headers: {
      authorization: `Bearer ${token}`,
      "content-type": "application/json",
      accept: "application/json, text/event-stream",
      "mcp-protocol-version": "2025-06-18",
    },
    body: JSON.stringify({ jsonrpc: "2.0", id: 1, method: "tools/call", params: { name, arguments: args } }),
  });
  if (!answer.ok) throw new Error(`the service answered ${answer.status}`);
  return said(await answer.json());
}

/** The editor as a reader of Outcrop: its file filled in, who it is connected as, its tools tried. */
export function Editor() {
  const member = useMember();
  const [form, setForm] = useState<Form>("mcpServers");
  const make = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/tokens", { body: { name: NAME, days: 90 } })),
  });
  const attempt = useMutation({
    mutationFn: ([name, args]: (typeof TRIALS)[number]) => call(make.data?.token ?? "", name, args),
  });
  const every = useEvery(3_000);
  const tokens = useQuery({
    ...reading("/api/v1/tokens"),
    enabled: make.data !== undefined,
    refetchInterval: every,
  });
  const used = tokens.data?.items.find(({ id }) => id === make.data?.id)?.last_used_at;
  return (
    <section aria-label="Your editor">
      <Heading note="by the Model Context Protocol">Your editor</Heading>
      <p className="py-2">
        An editor that speaks the protocol finds errors, reads them whole and asks questions, with your rights: what is
        closed to you is closed to it.
      </p>
      <p className="pb-2">
        Most need only the address <code className="font-mono text-[13px]">{window.location.origin}/mcp</code>: they
        open this console, and you let them in. One that cannot takes a token in its file:
      </p>
      {!make.data && (
        <Button look="main" disabled={make.isPending} onClick={() => make.mutate()}>
          Make a token for my editor
        </Button>
      )}
      {make.isError && <Refused what="No token was made" error={make.error} />}
      {make.data && (
        <div className="space-y-2">
          <label className="flex items-center gap-2">
            Its file lists servers under
            <Select value={form} options={FORMS.map((each) => [each, each] as const)} onChange={setForm} />
          </label>
          <Code label="The editor’s file">{editorSetup(form, window.location.origin, make.data.token)}</Code>
          <p className="text-faint text-[13px]">
            The token is shown this once, is good for 90 days and is revoked on <a href="/account">Account</a>.
          </p>
          <Callout tone={used ? "good" : "open"}>
            {used ? (
              <>
                Connected as {member.data?.email}: used <Ago at={used} />.
              </>
            ) : (
              "Waiting for the editor. This page says so once it has asked something."
            )}
          </Callout>
          <p className="flex flex-wrap gap-2">
            {TRIALS.map((trial) => (
              <Button key={trial[0]} disabled={attempt.isPending} onClick={() => attempt.mutate(trial)}>
                Try {trial[0]}
              </Button>
            ))}
          </p>
          {attempt.isError && <Refused what="The tool did not answer" error={attempt.error} />}
          {attempt.data && <Code label="What the editor is told">{attempt.data}</Code>}
        </div>
      )}
    </section>
  );
}
