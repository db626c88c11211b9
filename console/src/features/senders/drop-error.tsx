import { useMutation } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { api, queryClient, taken, useIsAdmin } from "../../api/client";
import { BUTTON, INPUT, Refused } from "./parts";

/** Drops one error from now on; from its page. */
export function DropError({ reference }: { reference: string }) {
  const mayDrop = useIsAdmin();
  const [isOpen, setOpen] = useState(false);
  const [note, setNote] = useState("");
  const make = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/drops", { body: { error: reference, note } })),
    onSuccess: () => queryClient.invalidateQueries({ queryKey: ["drops"] }),
  });
  if (!mayDrop) return null;
  if (make.isSuccess) {
    return (
      <p role="status" className="border-moss bg-sheet mt-2 border-l-4 px-3 py-2">
        Dropped from now on, before it counts. <Link to="/senders">End it, or see how much it was.</Link>
      </p>
    );
  }
  return (
    <div className="mt-2">
      <button
        type="button"
        aria-expanded={isOpen}
        onClick={() => setOpen(!isOpen)}
        className="text-accent hover:underline aria-expanded:font-semibold"
      >
        Noise? Drop this
      </button>
      {isOpen && (
        <div className="mt-1 flex flex-wrap items-end gap-3">
          <label className="w-80 max-w-full">
            Why
            <input value={note} onChange={(event) => setNote(event.target.value)} className={INPUT} />
          </label>
          <button type="button" className={BUTTON} disabled={make.isPending} onClick={() => make.mutate()}>
            Never count or keep it again
          </button>
        </div>
      )}
      {make.isError && <Refused error={make.error} />}
    </div>
  );
}
