import { describe, expect, it, test } from "vitest";
import { HOSTING } from "./hosting";
import type { Known, Step } from "./guide";
import { GUIDES } from "./steps";

const KNOWN: Known = { service: "tide-clock", endpoint: "https://outcrop.skerry.example", key: "k-of-tide-clock" };

const named: [string, (typeof GUIDES)[number]][] = GUIDES.map((guide) => [guide.language, guide]);
const all = (guide: (typeof GUIDES)[number]): Step[] => [
  ...guide.steps(KNOWN),
  ...guide.more,
  ...(guide.job ?? []),
  ...(guide.frameworks ?? []).flatMap((one) => one.steps),
];

describe.each(named)("the guide of %s", (_, guide) => {
  it("fills in the service, the address and the key", () => {
    const code = guide
      .steps(KNOWN)
      .map((step) => step.code)
      .join("\n");
    for (const known of [KNOWN.service, KNOWN.endpoint, KNOWN.key]) expect(code).toContain(known);
  });

  it("leaves no slot open and no step without a title", () => {
    for (const step of all(guide)) {
      expect(step.title.trim(), step.code).not.toBe("");
      expect(step.code).not.toMatch(/undefined|\[object|TODO|YOUR_/);
    }
  });

  it("names the release that it is written for", () => {
    expect(guide.release).toMatch(/\d+\.\d+/);
  });
});

test("each language has one guide", () => {
  expect(new Set(GUIDES.map((guide) => guide.language)).size).toBe(GUIDES.length);
});

describe.each(HOSTING.map(({ place, steps }) => [place, steps] as const))("a service that runs in %s", (_, steps) => {
  it("is given the key, and leaves no slot open", () => {
    const code = steps(KNOWN)
      .map((step) => `${step.title} ${step.code}`)
      .join("\n");
    expect(code).toContain(KNOWN.key);
    expect(code).not.toMatch(/undefined|\[object|TODO|YOUR_/);
  });
});
