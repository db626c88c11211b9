import { queryOptions, useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, taken } from "../../api/client";
import { Button, Callout, Outside } from "../../ui/kit";
import { Skeleton } from "../../ui/states";

const would = (link: string) =>
  queryOptions({
    queryKey: ["notice link", link],
    queryFn: () => taken(api.POST("/api/v1/notice-link", { body: { link } })),
    retry: false,
    staleTime: Infinity,
  });

/** Where a link of a notice leads: says what it does and does it on a click. Its secret stands behind the `#`. */
export function NoticeLinkPage() {
  const [link] = useState(() => window.location.hash.slice(1));
  const asked = useQuery(would(link));
  const act = useMutation({ mutationFn: () => taken(api.POST("/api/v1/notice-link/act", { body: { link } })) });
  return (
    <Outside>
      {asked.isPending && <Skeleton rows={3} />}
      {asked.isError && (
        <Callout tone="bad">
          {asked.error.message}. <a href="/notices">Open the console</a>
        </Callout>
      )}
      {asked.data && (
        <>
          <p className="font-semibold break-words">{asked.data.title}</p>
          <p className="text-faint mb-4">
            <a href={`/errors/${asked.data.reference}`} className="font-mono">
              {asked.data.reference}
            </a>{" "}
            in {asked.data.service} · {asked.data.handling}
          </p>
          {act.isSuccess ? (
            <Callout tone="good">
              Done. {act.data.sentence} <a href={`/errors/${act.data.reference}`}>Open it</a>
            </Callout>
          ) : (
            <Button look="main" disabled={act.isPending} onClick={() => act.mutate()}>
              {asked.data.verb === "take" ? `Take it as ${asked.data.member}` : "Quiet it for 24 h"}
            </Button>
          )}
          {act.isError && <Callout tone="bad">{act.error.message}</Callout>}
        </>
      )}
    </Outside>
  );
}
