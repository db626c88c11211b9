import { useQuery } from "@tanstack/react-query";
import { reading, useIsAdmin } from "../../api/client";
import { counted } from "../../ui/format";
import { Answer } from "../../ui/kit";
import { Failed, Skeleton } from "../../ui/states";
import { Audit } from "./audit";
import { Invitations } from "./invitations";
import { Members } from "./members";
import { Teams } from "./teams";

/** Who may read and act, in which teams, and what only teams may read. */
export function PeoplePage() {
  const members = useQuery(reading("/api/v1/members"));
  const teams = useQuery(reading("/api/v1/teams"));
  const isAdmin = useIsAdmin();
  if (members.isPending || teams.isPending) return <Skeleton isPage rows={6} />;
  if (members.isLoadingError)
    return <Failed isPage what="The members" error={members.error} retry={() => void members.refetch()} />;
  if (teams.isLoadingError)
    return <Failed isPage what="The teams" error={teams.error} retry={() => void teams.refetch()} />;
  const { items, limited } = teams.data;
  const few =
    limited.length > 0 &&
    `; ${counted(limited.length, "service is read by its", "services are read by their")} teams only`;
  return (
    <>
      <Answer>
        {counted(members.data.items.length, "member", "members")} in {counted(items.length, "team", "teams")}
        {few}.
      </Answer>
      {!isAdmin && <p className="text-faint mt-1">Admins invite people and make teams.</p>}
      <div className="mt-4 grid gap-8 lg:grid-cols-[minmax(0,1fr)_24rem]">
        <div className="min-w-0 space-y-8">
          <Members members={members.data.items} isAdmin={isAdmin} />
          <Teams teams={items} limited={limited} members={members.data.items} isAdmin={isAdmin} />
        </div>
        {isAdmin && (
          <div className="space-y-8">
            <Invitations teams={items.map((team) => team.name)} />
            <Audit />
          </div>
        )}
      </div>
    </>
  );
}
