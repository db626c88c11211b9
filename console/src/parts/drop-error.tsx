import { useMutation } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { api, taken, useIsAdmin, changed } from "../api/client";
import { Callout, Button, Input, Refused } from "../ui/kit";

/** Drops one error from now on; from its page. */
export function DropError({ reference }: { reference: string }) {
  const mayDrop = useIsAdmin();
  const [isOpen, setOpen] = useState(false);
  const [note, setNote] = useState("");
  const make = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/drops", { body: { error: reference, note } })),
    onSuccess: () => changed("/api/v1/drops"),
  });
  if (!mayDrop) return null;
  if (make.isSuccess) {
    return (
      <Callout tone="good">
        Dropped from now on, before it counts. <Link to="/senders">End it, or see how much it was.</Link>
      </Callout>
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
            <Input value={note} onChange={setNote} className="mt-1 block w-full font-mono text-[13px]" />
          </label>
          <Button disabled={make.isPending} onClick={() => make.mutate()}>
            Never count or keep it again
          </Button>
        </div>
      )}
      {make.isError && <Refused error={make.error} />}
    </div>
  );
}
