import { expect, test } from "vitest";
import { loadOf } from "./load-names";

test("one of each kind comes first, and what is no load is left out", () => {
  const names = [
    "skerry.cars.waiting",
    "process.memory.usage",
    "process.memory.limit",
    "process.uptime",
    "jvm.memory.used",
    "process.cpu.utilization",
    "jvm.gc.duration",
    "db.client.connection.count",
    "http.server.request.duration",
  ];
  expect(loadOf(names)).toEqual([
    "jvm.memory.used",
    "process.cpu.utilization",
    "jvm.gc.duration",
    "db.client.connection.count",
    "process.memory.usage",
  ]);
  expect(loadOf(["skerry.cars.waiting"])).toEqual([]);
});
