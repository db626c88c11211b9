import { useMutation } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, queryClient, taken, useMember } from "../../api/client";
import { Field } from "../sign-in/page";
import { Sessions } from "./sessions";
import { Tokens } from "./tokens";

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
      void queryClient.invalidateQueries({ queryKey: ["sessions"] });
      void queryClient.invalidateQueries({ queryKey: ["tokens"] });
    },
  });
  const send = (event: FormEvent) => {
    event.preventDefault();
    change.mutate();
  };
  return (
    <div className="max-w-3xl">
      <h1 className="text-xl font-bold">{member.data?.email ?? "Account"}</h1>
      <p className="text-faint mb-6">
        You are {member.data?.role === "viewer" ? "a viewer" : `an ${member.data?.role ?? "…"}`}.
      </p>
      <h2 className="mb-3 font-semibold">Set a new password</h2>
      <form onSubmit={send} className="max-w-sm space-y-4">
        <Field
          label="Current password"
          type="password"
          value={current}
          onChange={setCurrent}
          autoComplete="current-password"
        />
        <Field
          label="New password, at least 10 characters"
          type="password"
          value={next}
          onChange={setNext}
          autoComplete="new-password"
        />
        <label className="flex items-baseline gap-2">
          <input type="checkbox" checked={revokes} onChange={(event) => setRevokes(event.target.checked)} /> Revoke all
          my tokens too
        </label>
        {change.isError && (
          <p role="alert" className="border-brick bg-sheet border-l-4 px-3 py-2">
            Not changed: {change.error.message}.
          </p>
        )}
        {change.isSuccess && (
          <p role="status" className="border-moss bg-sheet border-l-4 px-3 py-2">
            The password is changed. All other sessions have ended{revokes ? ", and all tokens are revoked" : ""}.
          </p>
        )}
        <button
          type="submit"
          disabled={change.isPending}
          className="bg-accent text-on-accent rounded-sm px-4 py-1.5 font-semibold disabled:opacity-60"
        >
          Set password
        </button>
      </form>
      <Sessions />
      <Tokens />
    </div>
  );
}
