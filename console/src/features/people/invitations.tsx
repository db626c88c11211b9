import { useMutation, useQuery } from "@tanstack/react-query";
import { type SubmitEvent, useState } from "react";
import { api, changed, reading, taken } from "../../api/client";
import { exact } from "../../ui/format";
import { Button, Field, Heading, Refused, Select } from "../../ui/kit";
import { Code, Failed } from "../../ui/states";
import { ROLES, type Role } from "./members";

/** Invites people, and lists who was invited and has not come yet. */
export function Invitations({ teams }: { teams: readonly string[] }) {
  const open = useQuery(reading("/api/v1/invitations"));
  const [email, setEmail] = useState("");
  const [role, setRole] = useState<Role>("engineer");
  const [team, setTeam] = useState("");
  const after = () => changed("/api/v1/invitations", "/api/v1/audit");
  const invite = useMutation({
    mutationFn: () =>
      taken(api.POST("/api/v1/invitations", { body: { email: email.trim(), role, teams: team ? [team] : [] } })),
    onSuccess: () => {
      setEmail("");
      return after();
    },
  });
  const withdraw = useMutation({
    mutationFn: (id: number) => taken(api.DELETE("/api/v1/invitations/{id}", { params: { path: { id } } })),
    onSuccess: after,
  });
  const send = (event: SubmitEvent) => {
    event.preventDefault();
    invite.mutate();
  };
  // Without a public address of the installation the link begins with its path.
  const link = invite.data && new URL(invite.data.link, window.location.origin).href;
  return (
    <section aria-label="Invite">
      <Heading>Invite</Heading>
      <form onSubmit={send} className="mt-2 space-y-2">
        <Field
          required
          label="E-mail"
          type="email"
          placeholder="mate@skerry.example"
          value={email}
          onChange={setEmail}
          autoComplete="off"
        />
        <label className="block">
          Role
          <Select label="Role" value={role} options={ROLES} onChange={setRole} className="block w-full" />
        </label>
        {teams.length > 0 && (
          <label className="block">
            Team
            <Select
              label="Team"
              value={team}
              options={[["", "none"], ...teams.map((name) => [name, name] as [string, string])]}
              onChange={setTeam}
              className="block w-full"
            />
          </label>
        )}
        <Button type="submit" disabled={invite.isPending}>
          Make a link
        </Button>
        {invite.isError && <Refused what="Not invited" error={invite.error} />}
      </form>
      {link && (
        <>
          <p className="mt-2">
            Send them this link, shown only now. They choose a password there; it is good until{" "}
            {exact(invite.data.expires_at)}, once.
          </p>
          <Code label="Link of the invitation">{link}</Code>
        </>
      )}
      {open.isLoadingError && <Failed what="Open invitations" error={open.error} retry={() => void open.refetch()} />}
      {open.data && open.data.items.length > 0 && (
        <ul className="mt-3 text-[13px]" aria-label="Open invitations">
          {open.data.items.map((item) => (
            <li key={item.id} className="border-line flex flex-wrap items-baseline gap-x-2 border-b py-1">
              <span className="break-all">{item.email}</span>
              <span className="text-faint">
                {item.role}, by {item.by}, until {exact(item.expires_at)}
              </span>
              <Button
                look="link"
                className="ml-auto"
                disabled={withdraw.isPending}
                onClick={() => withdraw.mutate(item.id)}
              >
                take back
              </Button>
            </li>
          ))}
        </ul>
      )}
      {withdraw.isError && <Refused what="Not taken back" error={withdraw.error} />}
    </section>
  );
}
