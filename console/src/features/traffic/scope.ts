import { useNavigate, useSearch } from "@tanstack/react-router";
import { windowOf } from "../../api/client";

/** The scope as it stands in the address, and as the API takes it. */
export function useScope() {
  const search = useSearch({ from: "/inside/traffic" });
  const query = { service: search.service, environment: search.environment, ...windowOf(search) };
  const then = search.against && search.against !== "before" ? "then" : "before";
  return {
    search,
    then,
    query: Object.fromEntries(Object.entries(query).filter(([, value]) => value !== undefined)) as Record<
      string,
      string
    >,
  };
}

/** How the view's table is sorted, as it stands in the address. */
export function useOrder() {
  const { order } = useSearch({ from: "/inside/traffic" });
  const navigate = useNavigate({ from: "/traffic" });
  const onOrder = (next: string | undefined) =>
    void navigate({ search: (now) => ({ ...now, order: next }), replace: true, resetScroll: false });
  return { order, onOrder };
}

/** Whether one of the changes that were shown is for the worse. */
export const isWorse = (changes: readonly string[]) =>
  changes.some((change) => change === "fails more" || change === "slower");

export type TrafficSearch = ReturnType<typeof useScope>["search"];
