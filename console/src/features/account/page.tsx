import { useMutation } from "@tanstack/react-query";
import { type SubmitEvent, useState } from "react";
import { api, taken, useMember, changed } from "../../api/client";
import { PreferencesForm } from "./preferences";
import { Programs } from "./programs";
import { Sessions } from "./sessions";
import { Tokens } from "./tokens";
import { Answer, Button, Callout, Field } from "../../ui/kit";

export function AccountPage() {
  const member = useMember();
  const [current, setCurrent] = useState("");
  const [next, setNext] = useState("");
  const [revokes, setRevokes] = useState(false);
  const change = useMutation({
    mutationFn: () =>
      taken(api.PUT("/api/v1/session/password", { body: { current, new: next, revoke_tokens: revokes } })),
    onSuccess: () => {
      setCurrent("");
      setNext("");
      void changed("/api/v1/sessions", "/api/v1/tokens", "/api/v1/grants");
    },
  });
  const send = (event: SubmitEvent) => {
    event.preventDefault();
    change.mutate();
  };
  return (
    <div className="max-w-3xl">
      <Answer>{member.data?.email ?? "Account"}</Answer>
      <p className="text-faint mb-6">
        You are {member.data?.role === "viewer" ? "a viewer" : `an ${member.data?.role ?? "…"}`}.
      </p>
      <PreferencesForm />
      <h2 className="mb-3 font-semibold">Set a new password</h2>
      <form onSubmit={send} className="max-w-sm space-y-4">
        <Field
          required
          label="Current password"
          type="password"
          value={current}
          onChange={setCurrent}
          autoComplete="current-password"
        />
        <Field
          required
          label="New password, at least 10 characters"
          type="password"
          value={next}
          onChange={setNext}
          autoComplete="new-password"
        />
        <label className="flex items-baseline gap-2">
          <input type="checkbox" checked={revokes} onChange={(event) => setRevokes(event.target.checked)} /> Revoke all
          my tokens too, and shut all programs out
        </label>
        {change.isError && <Callout tone="bad">Not changed: {change.error.message}.</Callout>}
        {change.isSuccess && (
          <Callout tone="good">
            The password is changed. All other sessions have ended
            {revokes ? ", all tokens are revoked, and all programs shut out" : ""}.
          </Callout>
        )}
        <Button look="main" type="submit" disabled={change.isPending}>
          Set password
        </Button>
      </form>
      <Sessions />
      <Tokens />
      <Programs />
    </div>
  );
}
