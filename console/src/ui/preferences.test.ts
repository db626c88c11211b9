import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { exact, minute, tick, windowInWords, zone } from "./format";
import { prefer, preferred } from "./preferences";

// Before anything asks for the zone.
vi.hoisted(() => vi.stubEnv("TZ", "Europe/Oslo"));

const kept = new Map<string, string>();

beforeEach(() => {
  vi.stubGlobal("localStorage", { setItem: (name: string, value: string) => kept.set(name, value) });
  vi.stubGlobal("document", { documentElement: { dataset: {} } });
});

afterEach(() => {
  prefer({});
  vi.unstubAllGlobals();
});

const AT = "2026-11-29T23:30:05Z";

test("times are in UTC, and in the browser's zone where that is preferred", () => {
  expect([exact(AT), minute(AT), zone(AT)]).toEqual(["2026-11-29 23:30:05 UTC", "2026-11-29 23:30", "UTC"]);
  prefer({ times: "local" });
  expect([exact(AT), minute(AT), zone(AT)]).toEqual(["2026-11-30 00:30:05 CET", "2026-11-30 00:30", "CET"]);
  expect(tick(new Date(AT), 0)).toBe("00:30");
  expect(windowInWords({ from: AT })).toBe("2026-11-30 00:30 to now CET");
});

test("a theme is painted and kept; that of the system leaves the page unpainted", () => {
  prefer({ theme: "dark" });
  expect(document.documentElement.dataset.theme).toBe("dark");
  expect(JSON.parse(kept.get("outcrop.preferences") ?? "")).toEqual({ times: "utc", theme: "dark" });
  expect(preferred().theme).toBe("dark");
  prefer({});
  expect(document.documentElement.dataset).toEqual({});
});
