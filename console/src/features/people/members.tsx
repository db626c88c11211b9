import { useMutation } from "@tanstack/react-query";
import type { components } from "../../api/generated/schema";
import { api, changed, taken, useMember } from "../../api/client";
import { agoInWords, counted } from "../../ui/format";
import { Confirm } from "../../ui/dialog";
import { Heading, Refused, Select } from "../../ui/kit";

type Member = components["schemas"]["MemberItem"];
export type Role = components["schemas"]["MemberRole"];

export const ROLES: readonly [Role, string][] = [
  ["viewer", "viewer: reads"],
  ["engineer", "engineer: also acts"],
  ["admin", "admin: also has people and keys in hand"],
];

/** All members; admins change their roles and remove them. */
export function Members({ members, isAdmin }: { members: readonly Member[]; isAdmin: boolean }) {
  return (
    <section aria-label="Members">
      <Heading>Members</Heading>
      <ul>
        {members.map((member) => (
          <Row key={member.email} member={member} isAdmin={isAdmin} />
        ))}
      </ul>
    </section>
  );
}

function Row({ member, isAdmin }: { member: Member; isAdmin: boolean }) {
  const own = useMember().data?.email === member.email;
  const params = { path: { email: member.email } };
  const after = { onSuccess: () => changed("/api/v1/members", "/api/v1/teams", "/api/v1/session", "/api/v1/audit") };
  const setRole = useMutation({
    mutationFn: (role: Role) => taken(api.PUT("/api/v1/members/{email}", { params, body: { role } })),
    ...after,
  });
  const remove = useMutation({
    mutationFn: () => taken(api.DELETE("/api/v1/members/{email}", { params })),
    ...after,
  });
  const end = useMutation({
    mutationFn: () => taken(api.DELETE("/api/v1/members/{email}/sessions", { params })),
    ...after,
  });
  const known = [
    member.teams.length > 0 ? `in ${member.teams.join(", ")}` : "in no team",
    isAdmin && (member.last_used_at ? `here ${agoInWords(member.last_used_at)}` : "never here"),
    member.sessions != null && member.sessions > 0 && counted(member.sessions, "session", "sessions"),
    member.tokens != null && member.tokens > 0 && counted(member.tokens, "token", "tokens"),
  ];
  const failed = setRole.error ?? remove.error ?? end.error;
  return (
    <li className="border-line border-b py-2">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
        <span className="font-semibold break-all">
          {member.email}
          {own && <span className="text-faint font-normal"> (you)</span>}
        </span>
        {isAdmin ? (
          <span className="ml-auto flex max-w-full flex-wrap gap-2 text-[13px]">
            <Select
              label={`Role of ${member.email}`}
              value={member.role as Role}
              options={ROLES}
              onChange={(role) => setRole.mutate(role)}
              className="max-w-full"
            />
            {((member.sessions ?? 0) > 0 || (member.tokens ?? 0) > 0) && (
              <Confirm
                label="End sessions …"
                title={`End all sessions of ${member.email}?`}
                action="End them, and revoke the tokens"
                isPending={end.isPending}
                onConfirm={() => end.mutate()}
              >
                <p>They sign in again. What uses one of their tokens, such as a pipeline, is refused from now on.</p>
              </Confirm>
            )}
            <Confirm
              label="Remove …"
              title={`Remove ${member.email}?`}
              action="Remove them"
              isPending={remove.isPending}
              onConfirm={() => remove.mutate()}
            >
              <p>Their sessions and tokens end at once. What they did and wrote stays under their address.</p>
            </Confirm>
          </span>
        ) : (
          <span className="ml-auto text-[13px]">{member.role}</span>
        )}
      </div>
      <p className="text-faint text-[13px]">{known.filter(Boolean).join(" · ")}</p>
      {failed && <Refused error={failed} />}
    </li>
  );
}
