import { useMutation } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { type ErrorDetail, api, queryClient, taken, useMayAct } from "../../api/client";
import { Callout } from "../../ui/kit";

/** That this error is one known from before, its code having moved, or may be: with the way to say otherwise. */
export function Moved({ detail }: { detail: ErrorDetail }) {
  const mayChange = useMayAct();
  const undo = useMutation({
    mutationFn: (id: number) => taken(api.POST("/api/v1/grouping/changes/{id}/undo", { params: { path: { id } } })),
    onSuccess: () => queryClient.invalidateQueries(),
  });
  const join = useMutation({
    mutationFn: (error: string) =>
      taken(api.POST("/api/v1/grouping/changes", { body: { kind: "join_errors", error, with: [detail.ref] } })),
    onSuccess: () => queryClient.invalidateQueries(),
  });
  const failed = undo.error ?? join.error;
  if (detail.moved.length + detail.may_be.length === 0) return null;
  return (
    <div className="mt-1">
      {detail.moved.map((moved) => (
        <p key={moved.change}>
          Known from before: it <bdi>{moved.sentence}</bdi>.{" "}
          {mayChange && (
            <button
              type="button"
              disabled={undo.isPending}
              onClick={() => undo.mutate(moved.change)}
              className="text-accent hover:underline disabled:opacity-60"
            >
              not so: make it an error of its own
            </button>
          )}
        </p>
      ))}
      {detail.may_be.map((other) => (
        <p key={other.ref}>
          May be{" "}
          <Link to="/errors/$ref" params={{ ref: other.ref }} className="font-mono">
            {other.ref}
          </Link>
          , its code having moved: <bdi className="[overflow-wrap:anywhere]">{other.title}</bdi>{" "}
          {mayChange && (
            <button
              type="button"
              disabled={join.isPending}
              onClick={() => join.mutate(other.ref)}
              className="text-accent hover:underline disabled:opacity-60"
            >
              it is: join them
            </button>
          )}
        </p>
      ))}
      {failed && <Callout tone="bad">Nothing was changed: {failed.message}</Callout>}
    </div>
  );
}
