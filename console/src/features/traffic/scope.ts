import { useSearch } from "@tanstack/react-router";
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

export type TrafficSearch = ReturnType<typeof useScope>["search"];
