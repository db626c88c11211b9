import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type HandlingState, api, changed, reading, taken, useMayAct } from "../../api/client";
import { Button, Input, Refused } from "../../ui/kit";
import { Ago } from "../../ui/time";

/** The error's ticket in another program: what it is there, or how it comes to one. */
export function Ticket({ handling }: { handling: HandlingState }) {
  const mayAct = useMayAct();
  const tracker = useQuery(reading("/api/v1/tracker"));
  const params = { path: { ref: handling.ref } };
  const after = { onSuccess: () => changed("/api/v1/errors/{ref}/handling") };
  const [link, setLink] = useState("");
  const make = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/errors/{ref}/ticket", { params })),
    ...after,
  });
  const put = useMutation({
    mutationFn: () => taken(api.PUT("/api/v1/errors/{ref}/ticket", { params, body: { link: link.trim() } })),
    onSuccess: () => {
      setLink("");
      return after.onSuccess();
    },
  });
  const leave = useMutation({
    mutationFn: () => taken(api.DELETE("/api/v1/errors/{ref}/ticket", { params })),
    ...after,
  });
  const isPending = make.isPending || put.isPending || leave.isPending;
  const failed = make.error ?? put.error ?? leave.error;
  const { ticket } = handling;
  if (ticket)
    return (
      <p className="break-words">
        Ticket{" "}
        <a href={ticket.link} target="_blank" rel="noopener noreferrer nofollow">
          {ticket.id || ticket.link}
        </a>
        {ticket.state && (
          <>
            {" "}
            is {ticket.state}{" "}
            <span className="text-faint">
              (<Ago at={ticket.looked_at} />)
            </span>
          </>
        )}
        {mayAct && (
          <Button look="link" className="ml-2" disabled={isPending} onClick={() => leave.mutate()}>
            leave it
          </Button>
        )}
        {failed && <Refused what="Not done" error={failed} />}
      </p>
    );
  if (!mayAct) return null;
  return (
    <>
      <form
        className="flex gap-1.5"
        onSubmit={(event) => {
          event.preventDefault();
          put.mutate();
        }}
      >
        {tracker.data?.is_set && (
          <Button disabled={isPending} onClick={() => make.mutate()}>
            {make.isPending ? "Making a ticket…" : "Make a ticket"}
          </Button>
        )}
        <Input
          aria-label="Address of its ticket"
          placeholder="or the address of one"
          value={link}
          onChange={setLink}
          className="min-w-0 flex-1"
        />
        <Button type="submit" disabled={isPending || link.trim() === ""}>
          Link
        </Button>
      </form>
      {failed && <Refused what="Not done" error={failed} />}
    </>
  );
}
