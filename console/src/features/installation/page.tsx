import { useQuery } from "@tanstack/react-query";
import type { components } from "../../api/generated/schema";
import { reading } from "../../api/client";
import { counted } from "../../ui/format";
import { Answer, Button, DocsLink } from "../../ui/kit";
import { Failed, Skeleton } from "../../ui/states";

type Finding = components["schemas"]["FindingItem"];

/** Whether the installation is well, and what to do where it is not; for admins. */
export function InstallationPage() {
  const installation = useQuery(reading("/api/v1/installation"));
  if (installation.isPending) return <Skeleton isPage rows={10} />;
  if (installation.isLoadingError)
    return (
      <Failed
        isPage
        what="How this installation is"
        error={installation.error}
        retry={() => void installation.refetch()}
      />
    );
  const { findings, version } = installation.data;
  const of = (level: string) => findings.filter((finding) => finding.level === level).length;
  return (
    <>
      <Answer>{inWords(of("wrong"), of("look"))}</Answer>
      <p className="text-faint mt-1 flex flex-wrap items-baseline gap-x-4">
        Release {version}.
        <Button look="link" onClick={() => void installation.refetch()} disabled={installation.isFetching}>
          look again
        </Button>
        <DocsLink page="guides/operate">How to operate Outcrop</DocsLink>
      </p>
      <ul className="mt-4" aria-label="What was looked at, the worst first">
        {findings.map((finding) => (
          <Row key={finding.about} finding={finding} />
        ))}
      </ul>
    </>
  );
}

function inWords(wrong: number, look: number): string {
  const looks = `${counted(look, "thing is", "things are")} worth a look`;
  if (wrong > 0) return `${counted(wrong, "thing is", "things are")} wrong${look > 0 ? `, and ${looks}` : ""}.`;
  return look > 0 ? `Nothing is wrong; ${looks}.` : "All is well with this installation.";
}

const SHADES: Record<string, string> = { wrong: "text-brick", look: "text-ochre" };

function Row({ finding }: { finding: Finding }) {
  return (
    <li className="border-line grid gap-x-4 border-b py-2 md:grid-cols-[4rem_13rem_minmax(0,1fr)]">
      <span className={SHADES[finding.level] ?? "text-faint"}>{finding.level}</span>
      <span className="font-semibold">{finding.about}</span>
      <div className="min-w-0 [overflow-wrap:anywhere]">
        <p>{finding.says}</p>
        {finding.todo && <p className="text-faint">To do: {finding.todo}</p>}
      </div>
    </li>
  );
}
