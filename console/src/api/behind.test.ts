import { expect, test } from "vitest";
import { behindInWords } from "./behind";

test("what a standby may lack is said, and nothing where it has all", () => {
  expect(behindInWords(null)).toBeNull();
  expect(behindInWords("12")).toBe("A standby answers that is up to 12 s behind: the newest may be missing.");
  expect(behindInWords("unknown")).toBe("A standby answers: the newest may be missing.");
});
