import { expect, test } from "vitest";
import { FORMS, editorSetup, said } from "./editor-setup";

test.each(FORMS)("the file with %s names address and token", (form) => {
  const file = JSON.parse(editorSetup(form, "https://outcrop.skerry.example", "outcrop-token-1")) as Record<
    string,
    unknown
  >;
  expect(file[form]).toEqual({
    outcrop: {
      type: "http",
      url: "https://outcrop.skerry.example/mcp",
      headers: { Authorization: "Bearer outcrop-token-1" },
    },
  });
});

test.each([
  [{ result: { content: [{ text: "one error" }] } }, "one error"],
  [{ error: { message: "no such tool" } }, "no such tool"],
  [{}, "It answered in a form that is not known here."],
])("of %j it is said", (answer, words) => expect(said(answer)).toBe(words));
