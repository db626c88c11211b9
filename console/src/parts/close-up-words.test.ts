import { expect, test } from "vitest";
import { closeUpInWords } from "./close-up-words";

const of = {
  id: 7,
  error: "kobal-tirun",
  service: "fares",
  title: "no tariff",
  where: null,
  count: 5,
  taken: 2,
  until: "2026-12-02T18:00:00Z",
  tell: false,
  asked_by: "mate@skerry.example",
  asked_at: "2026-12-02T10:00:00Z",
  state: "open",
  ended_at: null,
  ended_by: null,
  said: "",
};

test.each([
  [{}, "2 of 5 kept; 3 left, until 2026-12-02 18:00 UTC"],
  [{ taken: 6 }, "6 of 5 kept; 0 left, until 2026-12-02 18:00 UTC"],
  [{ state: "complete", taken: 5 }, "5 of 5 kept"],
  [{ state: "over" }, "2 of 5 kept; its time ended at 2026-12-02 18:00 UTC"],
  [
    { state: "ended", ended_by: "mate", ended_at: "2026-12-02T17:00:00Z" },
    "2 of 5 kept; ended by mate at 2026-12-02 17:00 UTC",
  ],
  [
    { state: "ended", ended_at: "2026-12-02T17:00:00Z" },
    "2 of 5 kept; ended by Outcrop, since who asked is gone at 2026-12-02 17:00 UTC",
  ],
])("with %j it is said", (change, words) => expect(closeUpInWords({ ...of, ...change })).toBe(words));
