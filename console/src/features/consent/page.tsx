import { queryOptions, useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, taken } from "../../api/client";
import { Button, Callout, Outside, Refused } from "../../ui/kit";
import { Skeleton } from "../../ui/states";

const asked = (request: string) =>
  queryOptions({
    queryKey: ["consent", request],
    queryFn: () => taken(api.GET("/api/v1/consent", { params: { query: { request } } })),
    retry: false,
    staleTime: Infinity,
  });

/** A program asks to be let in. What it asks stands behind the `#`, as the service put it there. */
export function ConsentPage() {
  const [request] = useState(() => window.location.hash.slice(1));
  const program = useQuery(asked(request));
  const decide = useMutation({
    mutationFn: (allow: boolean) => taken(api.POST("/api/v1/consent", { body: { request, allow } })),
    onSuccess: ({ location }) => window.location.assign(location),
  });
  const isDone = decide.isPending || decide.isSuccess;
  return (
    <Outside>
      {program.isPending && <Skeleton rows={4} />}
      {program.isError && <Callout tone="bad">Nobody can be let in: {program.error.message}.</Callout>}
      {program.data && (
        <div className="space-y-4">
          <p className="text-lg">
            <b className="break-words">{program.data.client}</b> wants to act as you, {program.data.email}.
          </p>
          <ul className="list-disc space-y-1 pl-5">
            <li>It reads whatever you may read: errors with their variables, log lines, traces, requests.</li>
            <li>
              {program.data.role === "viewer"
                ? "It changes nothing: you are a viewer."
                : "It takes, settles and quiets errors and writes notes, under your name."}
            </li>
            <li>
              You are sent on to <code className="font-mono text-[13px] break-all">{program.data.back_to}</code>.
            </li>
          </ul>
          <p className="text-faint">
            The name is what the program calls itself: nobody has checked it. Let it in only if you asked it to connect
            just now. On Account you shut it out again.
          </p>
          {decide.isError && <Refused what="Nothing was decided" error={decide.error} />}
          <p className="flex gap-3">
            <Button look="main" disabled={isDone} onClick={() => decide.mutate(true)}>
              Let it in
            </Button>
            <Button disabled={isDone} onClick={() => decide.mutate(false)}>
              Send it away
            </Button>
          </p>
          {decide.isSuccess && (
            <p role="status">Decided. The program goes on by itself; this page can be closed once it does.</p>
          )}
        </div>
      )}
    </Outside>
  );
}
