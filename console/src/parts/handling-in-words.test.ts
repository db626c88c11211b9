import { expect, test } from "vitest";
import { handlingInWords } from "./handling-in-words";

test.each([
  [{ open: true }, "Open · not taken"],
  [{ open: true, taken_by: "deck team" }, "Open · taken by deck team"],
  [{ open: false, settled_in: "2.4.1" }, "Not taken · settled in 2.4.1"],
  [{ open: false, settled_by: "3f2a1c9" }, "Not taken · settled by commit 3f2a1c9, in no deploy yet"],
  [{ open: false, settled_by: "3f2a1c9", settled_in: "2.4.1" }, "Not taken · settled in 2.4.1 by commit 3f2a1c9"],
  [{ open: false, settled_from: "2026-11-30T09:00:00.000Z" }, "Not taken · settled from 2026-11-30 09:00 UTC on"],
  [
    { open: false, taken_by: "purser", quiet_until: "2026-11-30T09:00:00.000Z" },
    "Taken by purser · quiet until 2026-11-30 09:00 UTC",
  ],
  [{ open: false, quiet_until: "users > 50" }, "Not taken · quiet until users > 50"],
])("%j is said as %s", (handling, said) => expect(handlingInWords(handling)).toBe(said));
