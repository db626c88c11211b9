import { describe, expect, it } from "vitest";
import { Refusal, taken, windowOf } from "./client";

describe("a window", () => {
  it("begins where one is given, else a day ago", () => {
    expect(windowOf({})).toEqual({ since: "24h" });
    expect(windowOf({ since: "7d", to: "2026-11-29T12:00:00Z" })).toEqual({ since: "7d" });
    expect(windowOf({ since: "7d", from: "2026-11-29T10:00:00Z" })).toEqual({
      from: "2026-11-29T10:00:00Z",
      to: undefined,
    });
  });
});

describe("an answer", () => {
  const answer = (status: number, given: object) =>
    Promise.resolve({ ...given, response: new Response(null, { status }) });

  it("is its document", async () => {
    expect(await taken(answer(200, { data: { total: 3 } }))).toEqual({ total: 3 });
  });

  it("that refuses says why in the service's words, else its status", async () => {
    await expect(taken(answer(409, { error: { detail: "the key is in use" } }))).rejects.toThrow("the key is in use");
    await expect(taken(answer(502, { error: "<html>" }))).rejects.toThrow("The service answered 502.");
    await expect(taken(answer(404, {}))).rejects.toMatchObject({ status: 404 });
    await expect(taken(answer(500, {}))).rejects.toBeInstanceOf(Refusal);
  });
});
