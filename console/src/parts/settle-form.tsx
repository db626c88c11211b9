import { useState } from "react";
import type { HandlingAction } from "../api/client";
import { Button, Input, Select } from "../ui/kit";
import { FROM, type From, settling } from "./settle";

type Props = {
  /** A version that may stand there. */
  placeholder: string;
  isPending: boolean;
  settle: (action: HandlingAction, done: () => void) => void;
};

/** Settles: in a version, by a commit, or from now on. */
export function SettleForm({ placeholder, isPending, settle }: Props) {
  const [from, setFrom] = useState<From>("version");
  const [text, setText] = useState("");
  const action = settling(from, text);
  return (
    <form
      className="flex min-w-0 flex-wrap gap-1.5"
      onSubmit={(event) => {
        event.preventDefault();
        if (action) settle(action, () => setText(""));
      }}
    >
      <Select label="From what on it must not occur" value={from} options={FROM} onChange={setFrom} />
      {from !== "now" && (
        <Input
          aria-label={from === "version" ? "Version from which on it must not occur" : "Commit that mends it"}
          placeholder={from === "version" ? placeholder : "3f2a1c9"}
          value={text}
          onChange={setText}
          className="w-24 min-w-0 flex-1 font-mono"
        />
      )}
      <Button type="submit" disabled={isPending || !action}>
        Settle
      </Button>
    </form>
  );
}
