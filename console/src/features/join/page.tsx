import { queryOptions, useMutation, useQuery } from "@tanstack/react-query";
import { type SubmitEvent, useState } from "react";
import { api, taken } from "../../api/client";
import { exact } from "../../ui/format";
import { Button, Callout, Field, Outside } from "../../ui/kit";
import { Skeleton } from "../../ui/states";

const invitation = (secret: string) =>
  queryOptions({
    queryKey: ["invitation", secret],
    queryFn: () => taken(api.POST("/api/v1/invitation", { body: { secret } })),
    retry: false,
    staleTime: Infinity,
  });

/** Where an invitation's link leads: its secret stands behind the `#`, which no browser sends to a server. */
export function JoinPage() {
  const [secret] = useState(() => window.location.hash.slice(1));
  const [password, setPassword] = useState("");
  const invited = useQuery(invitation(secret));
  const join = useMutation({
    mutationFn: async () => {
      await taken(api.POST("/api/v1/invitation/accept", { body: { secret, password } }));
      const email = invited.data?.email ?? "";
      await taken(api.POST("/api/v1/session", { body: { email, password } }));
    },
    onSuccess: () => window.location.assign("/errors"),
  });
  const send = (event: SubmitEvent) => {
    event.preventDefault();
    join.mutate();
  };
  return (
    <Outside>
      {invited.isPending && <Skeleton rows={3} />}
      {invited.isError && (
        <Callout tone="bad">The link leads nowhere: {invited.error.message}. Whoever sent it can make another.</Callout>
      )}
      {invited.data && (
        <>
          <p className="mb-1">
            {invited.data.by} invited you as {invited.data.role === "viewer" ? "a viewer" : `an ${invited.data.role}`}
            {invited.data.teams.length > 0 && ` in ${invited.data.teams.join(", ")}`}.
          </p>
          <p className="text-faint mb-6">The link is good until {exact(invited.data.expires_at)}.</p>
          <form onSubmit={send} className="space-y-4">
            <Field
              label="E-mail"
              type="email"
              value={invited.data.email}
              onChange={() => {}}
              readOnly
              autoComplete="username"
            />
            <Field
              required
              label="Choose a password"
              hint="at least 10 characters"
              type="password"
              minLength={10}
              value={password}
              onChange={setPassword}
              autoComplete="new-password"
            />
            {join.isError && <Callout tone="bad">Not done: {join.error.message}.</Callout>}
            <Button look="main" type="submit" disabled={join.isPending}>
              {join.isPending ? "Joining…" : "Join"}
            </Button>
          </form>
        </>
      )}
    </Outside>
  );
}
