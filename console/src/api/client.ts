import { QueryCache, QueryClient, keepPreviousData, queryOptions, useQuery } from "@tanstack/react-query";
import createClient, { type FetchResponse, type MaybeOptionalInit } from "openapi-fetch";
import type { PathsWithMethod } from "openapi-typescript-helpers";
import { behindMiddleware } from "./behind";
import type { components, paths } from "./generated/schema";

export type ErrorItem = components["schemas"]["ErrorItem"];
export type Sentence = components["schemas"]["Sentence"];
export type ListPart = components["schemas"]["ListPart"];
export type ErrorDetail = components["schemas"]["ErrorDetail"];
export type Timeline = components["schemas"]["Timeline"];
export type OccurrenceItem = components["schemas"]["OccurrenceItem"];
export type OccurrenceDetail = components["schemas"]["OccurrenceDetail"];
export type Stack = components["schemas"]["Stack"];
export type Exception = components["schemas"]["Exception"];
export type Frame = components["schemas"]["Frame"];
export type GroupingChange = components["schemas"]["GroupingChange"];
export type GroupingOutcome = components["schemas"]["GroupingOutcome"];
export type ServiceSettings = components["schemas"]["ServiceSettings"];
export type TraceDetail = components["schemas"]["TraceDetail"];
export type SpanItem = components["schemas"]["SpanItem"];
export type GroupItem = components["schemas"]["GroupItem"];
export type EndpointItem = components["schemas"]["EndpointItem"];
export type TiedError = components["schemas"]["TiedError"];
export type DeployItem = components["schemas"]["DeployItem"];
export type FlagItem = components["schemas"]["FlagItem"];
export type MarkerItem = components["schemas"]["MarkerItem"];
export type DeployDetail = components["schemas"]["DeployDetail"];
export type EndpointChange = components["schemas"]["EndpointChange"];
export type HandlingState = components["schemas"]["HandlingState"];
export type HandlingAction = components["schemas"]["HandlingAction"];
export type RequestItem = components["schemas"]["RequestItem"];
export type LogItem = components["schemas"]["LogItem"];
export type CallItem = components["schemas"]["CallItem"];
export type InstanceItem = components["schemas"]["InstanceItem"];
export type PlatformEventItem = components["schemas"]["PlatformEventItem"];
export type NowItem = components["schemas"]["NowItem"];
export type NowEcho = components["schemas"]["NowEcho"];
export type NowReport = components["schemas"]["NowReport"];
export type FleetItem = components["schemas"]["FleetItem"];
export type LeadUpStep = components["schemas"]["LeadUpStep"];
export type KeyItem = components["schemas"]["KeyItem"];
export type TokenItem = components["schemas"]["TokenItem"];
export type ScrubRuleItem = components["schemas"]["ScrubRuleItem"];
export type ServiceItem = components["schemas"]["ServiceItem"];

export const api = createClient<paths>({ baseUrl: "" });
api.use(behindMiddleware);

/** A refusal of the service, with its words for people. */
export class Refusal extends Error {
  constructor(
    message: string,
    readonly status: number,
  ) {
    super(message);
  }
}

type Answer<T> = { data?: T; error?: unknown; response: Response };

/** The answer's document, or a {@link Refusal}. */
export async function taken<T>(answer: Promise<Answer<T>>): Promise<T> {
  const { data, error, response } = await answer;
  if (response.ok) return data as T;
  const detail = (error as { detail?: string } | undefined)?.detail;
  throw new Refusal(detail ?? `The service answered ${response.status}.`, response.status);
}

/** A path that can be read. */
export type Readable = PathsWithMethod<paths, "get">;
type Init<P extends Readable> = MaybeOptionalInit<paths[P], "get">;
type Document<P extends Readable> = NonNullable<
  FetchResponse<paths[P]["get"], Record<string, unknown>, "application/json">["data"]
>;

/** The query that reads a path: what it is kept under is the path and all that is asked with it. */
export function reading<P extends Readable>(
  path: P,
  ...init: undefined extends Init<P> ? [init?: Init<P>] : [init: Init<P>]
) {
  const get = api.GET as (path: P, init: unknown) => Promise<Answer<Document<P>>>;
  return queryOptions<Document<P>>({
    queryKey: [path, init[0]],
    queryFn: ({ signal }) => taken(get(path, { ...init[0], signal })),
  });
}

/** Reads again what pages show of these paths, whatever was asked with them. */
export async function changed(...paths: Readable[]) {
  const wanted = new Set<unknown>(paths);
  await queryClient.invalidateQueries({ predicate: ({ queryKey }) => wanted.has(queryKey[0]) });
}

/** Keeps what was read before in place of what is being read, as long as it is of the same error. */
const ofError =
  (reference: string) =>
  <T>(before: T | undefined, query?: { queryKey: readonly unknown[] }): T | undefined => {
    const asked = query?.queryKey[1] as { params?: { path?: { ref?: string } } } | undefined;
    return asked?.params?.path?.ref === reference ? before : undefined;
  };

/** Where a session that ended leads: to the sign-in, and back from there. */
function signInAgain(error: Error) {
  const here = window.location;
  if (!(error instanceof Refusal) || error.status !== 401 || here.pathname === "/sign-in") return;
  here.assign(`/sign-in?q=${encodeURIComponent(here.pathname + here.search)}`);
}

/** Whether the page is held: then nothing is read that was not asked for. */
export const hold = { isOn: false };

export const queryClient = new QueryClient({
  queryCache: new QueryCache({ onError: signInAgain }),
  defaultOptions: {
    queries: {
      staleTime: 2_000,
      retry: (count, error) => count < 3 && !(error instanceof Refusal && error.status < 500),
      refetchOnWindowFocus: () => !hold.isOn,
      refetchOnReconnect: () => !hold.isOn,
    },
  },
});

/** Which part of everything is looked at; it stands in the address. */
export type Scope = {
  service?: string;
  environment?: string;
  since?: string;
  from?: string;
  to?: string;
  where?: string;
  against?: string;
};

/** The window of a scope as the API takes it: `since` where no beginning is given. */
export function windowOf({ since, from, to }: Scope) {
  return from ? { from, to } : { since: since ?? "24h" };
}

export function useMember() {
  return useQuery({ ...reading("/api/v1/session"), staleTime: 60_000 });
}

/** Whether whoever is signed in may act on errors, deploys and grouping; not before that is known. */
export function useMayAct() {
  const role = useMember().data?.role;
  return role === "engineer" || role === "admin";
}

/** Whether whoever is signed in manages keys, discarding and scrubbing. */
export function useIsAdmin() {
  return useMember().data?.role === "admin";
}

export function useServices() {
  return useQuery(reading("/api/v1/services"));
}

/** Steps of the small strip beside an error. */
const STRIP_STEPS = 48;

type ListQuery = { words?: string | undefined; order?: string | undefined; cursor?: string | undefined };

export function useErrors(scope: Scope, { words, order, cursor }: ListQuery) {
  const query = {
    service: scope.service,
    environment: scope.environment,
    ...windowOf(scope),
    where: scope.where,
    against: scope.against,
    strip: STRIP_STEPS,
    by_part: true,
    words,
    order,
    limit: 50,
    cursor,
  };
  return useQuery({ ...reading("/api/v1/errors", { params: { query } }), placeholderData: keepPreviousData });
}

/** How many requests of the scope failed; it is counted apart from lists, since that takes longer. */
export function useTraffic(scope: Scope) {
  const query = { service: scope.service, environment: scope.environment, ...windowOf(scope) };
  return useQuery({ ...reading("/api/v1/traffic", { params: { query } }), placeholderData: keepPreviousData });
}

export function useError(reference: string, scope: Scope) {
  const query = { environment: scope.environment, ...windowOf(scope), where: scope.where, against: scope.against };
  return useQuery({
    ...reading("/api/v1/errors/{ref}", { params: { path: { ref: reference }, query } }),
    // Of the same error alone: what is done on the page must never be done to another one.
    placeholderData: ofError(reference),
  });
}

export function useTimeline(reference: string, scope: Scope) {
  const query = { environment: scope.environment, ...windowOf(scope), where: scope.where, steps: 90 };
  return useQuery({
    ...reading("/api/v1/errors/{ref}/timeline", { params: { path: { ref: reference }, query } }),
    placeholderData: ofError(reference),
  });
}

export function useOccurrence(id: string | undefined) {
  return useQuery({
    ...reading("/api/v1/occurrences/{id}", { params: { path: { id: id ?? "" } } }),
    enabled: id !== undefined,
    placeholderData: keepPreviousData,
  });
}

/** Where to stand among the occurrences of an error. */
export type Choice =
  "first" | "latest" | "fullest" | { older: string } | { newer: string } | { version: string } | { from: string };

/** Finds the occurrence chosen; `null` where there is none further. */
export async function choose(reference: string, choice: Choice, scope: Scope): Promise<string | null> {
  const pick = typeof choice === "string" ? { choice } : choice;
  const query = { ...pick, environment: scope.environment };
  const chosen = await taken(api.GET("/api/v1/errors/{ref}/choose", { params: { path: { ref: reference }, query } }));
  return chosen.id ?? null;
}

/** The occurrence that an address chooses, else the latest, with its place among those kept. */
export function useChosen(reference: string, chosen: string | undefined, environment: string | undefined) {
  const query = { ...(chosen ? { at: chosen } : { choice: "latest" }), environment };
  return useQuery({
    ...reading("/api/v1/errors/{ref}/choose", { params: { path: { ref: reference }, query } }),
    placeholderData: ofError(reference),
  });
}
