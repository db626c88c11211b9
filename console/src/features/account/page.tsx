import { useMutation } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, taken, useMember } from "../../api/client";
import { Field } from "../sign-in/page";

export function AccountPage() {
  const member = useMember();
  const [current, setCurrent] = useState("");
  const [next, setNext] = useState("");
  const change = useMutation({
    mutationFn: () => taken(api.PUT("/api/v1/session/password", { body: { current, new: next } })),
    onSuccess: () => {
      setCurrent("");
      setNext("");
    },
  });
  const send = (event: FormEvent) => {
    event.preventDefault();
    change.mutate();
  };
  return (
    <div className="max-w-sm">
      <h1 className="text-xl font-bold">{member.data?.email ?? "Account"}</h1>
      <p className="mb-6 text-faint">You are {member.data?.role === "viewer" ? "a viewer" : `an ${member.data?.role ?? "…"}`}.</p>
      <h2 className="mb-3 font-semibold">Set a new password</h2>
      <form onSubmit={send} className="space-y-4">
        <Field label="Current password" type="password" value={current} onChange={setCurrent} autoComplete="current-password" />
        <Field label="New password, at least 10 characters" type="password" value={next} onChange={setNext} autoComplete="new-password" />
        {change.isError && (
          <p role="alert" className="border-l-4 border-brick bg-sheet px-3 py-2">
            Not changed: {change.error.message}.
          </p>
        )}
        {change.isSuccess && (
          <p role="status" className="border-l-4 border-moss bg-sheet px-3 py-2">
            The password is changed. All other sessions have ended.
          </p>
        )}
        <button type="submit" disabled={change.isPending} className="rounded-sm bg-accent px-4 py-1.5 font-semibold text-on-accent disabled:opacity-60">
          Set password
        </button>
      </form>
    </div>
  );
}
