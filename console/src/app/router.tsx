import {
  createRootRoute,
  createRoute,
  createRouter,
  lazyRouteComponent,
  redirect,
  retainSearchParams,
} from "@tanstack/react-router";
import { queryClient, reading, Refusal, type Scope } from "../api/client";
import { Shell } from "./shell";

/** The scope stands in the address and stays from page to page. */
export type Search = Scope & {
  cursor?: string;
  q?: string;
  occurrence?: string;
  all?: boolean;
  span?: string;
  view?: string;
  endpoint?: string;
  only?: string;
  status?: number;
  text?: string;
  severity?: string;
  template?: string;
  trace?: string;
  error?: string;
  order?: string;
  columns?: string;
  question?: string;
  saved?: string;
  metric?: string;
  by?: string;
  together?: string;
};

/** A value of the address as text: the router reads `?q=404` as a number. */
const text = (value: unknown) =>
  ["string", "number", "boolean"].includes(typeof value) && value !== "" ? String(value) : undefined;

/** What an address says; whatever else stands in it is taken out, else the router would pass it on as it came. */
export function search(raw: Record<string, unknown>): Search {
  const found: Search = Object.fromEntries(Object.keys(raw).map((name) => [name, undefined]));
  for (const name of [
    "service",
    "environment",
    "since",
    "from",
    "to",
    "where",
    "against",
    "cursor",
    "q",
    "occurrence",
    "span",
    "view",
    "endpoint",
    "only",
    "text",
    "severity",
    "template",
    "trace",
    "error",
    "order",
    "columns",
    "question",
    "saved",
    "metric",
    "by",
    "together",
  ] as const) {
    const value = text(raw[name]);
    if (value !== undefined) found[name] = value;
  }
  if (raw.all === true || raw.all === "true") found.all = true;
  if (Number.isInteger(Number(raw.status)) && raw.status !== undefined && raw.status !== "")
    found.status = Number(raw.status);
  return found;
}

/** What stays in the address from page to page, unless a link says otherwise. */
const SCOPE = ["service", "environment", "since", "from", "to", "against"] as const;

const root = createRootRoute({ validateSearch: search, search: { middlewares: [retainSearchParams([...SCOPE])] } });

const signIn = createRoute({
  getParentRoute: () => root,
  path: "/sign-in",
  component: lazyRouteComponent(() => import("../features/sign-in/page"), "SignInPage"),
});

const join = createRoute({
  getParentRoute: () => root,
  path: "/join",
  component: lazyRouteComponent(() => import("../features/join/page"), "JoinPage"),
});

const noticeLink = createRoute({
  getParentRoute: () => root,
  path: "/notice-link",
  component: lazyRouteComponent(() => import("../features/notice-link/page"), "NoticeLinkPage"),
});

/** What pages are made of; the development build alone has it. */
const kit = createRoute({
  getParentRoute: () => root,
  path: "/kit",
  component: import.meta.env.DEV
    ? lazyRouteComponent(() => import("../features/kit/page"), "KitPage")
    : () => <p className="p-6">Nothing is here.</p>,
});

/** Lets members through; others sign in, and come back. */
async function mustBeMember({ location }: { location: { href: string } }) {
  try {
    await queryClient.query({ ...reading("/api/v1/session"), staleTime: "static" });
  } catch (error) {
    if (error instanceof Refusal && error.status === 401) {
      throw redirect({ to: "/sign-in", search: location.href === "/" ? {} : { q: location.href } });
    }
    throw error;
  }
}

const consent = createRoute({
  getParentRoute: () => root,
  path: "/consent",
  component: lazyRouteComponent(() => import("../features/consent/page"), "ConsentPage"),
  beforeLoad: mustBeMember,
});

const inside = createRoute({ getParentRoute: () => root, id: "inside", component: Shell, beforeLoad: mustBeMember });

const home = createRoute({
  getParentRoute: () => inside,
  path: "/",
  beforeLoad: () => {
    throw redirect({ to: "/now", search: (now) => now });
  },
});
const errors = createRoute({
  getParentRoute: () => inside,
  path: "/errors",
  component: lazyRouteComponent(() => import("../features/errors/page"), "ErrorsPage"),
});
const error = createRoute({
  getParentRoute: () => inside,
  path: "/errors/$ref",
  component: lazyRouteComponent(() => import("../features/error/page"), "ErrorPage"),
});
const occurrences = createRoute({
  getParentRoute: () => inside,
  path: "/errors/$ref/occurrences",
  component: lazyRouteComponent(() => import("../features/occurrences/page"), "OccurrencesPage"),
});
const notices = createRoute({
  getParentRoute: () => inside,
  path: "/notices",
  component: lazyRouteComponent(() => import("../features/notices/page"), "NoticesPage"),
});
const connect = createRoute({
  getParentRoute: () => inside,
  path: "/connect",
  component: lazyRouteComponent(() => import("../features/connect/page"), "ConnectPage"),
});
const grouping = createRoute({
  getParentRoute: () => inside,
  path: "/grouping",
  component: lazyRouteComponent(() => import("../features/grouping/page"), "GroupingPage"),
});
const services = createRoute({
  getParentRoute: () => inside,
  path: "/services",
  component: lazyRouteComponent(() => import("../features/services/page"), "ServicesPage"),
});
const trace = createRoute({
  getParentRoute: () => inside,
  path: "/traces/$id",
  component: lazyRouteComponent(() => import("../features/trace/page"), "TracePage"),
});
const now = createRoute({
  getParentRoute: () => inside,
  path: "/now",
  component: lazyRouteComponent(() => import("../features/now/page"), "NowPage"),
});
const traffic = createRoute({
  getParentRoute: () => inside,
  path: "/traffic",
  component: lazyRouteComponent(() => import("../features/traffic/page"), "TrafficPage"),
});
const deploys = createRoute({
  getParentRoute: () => inside,
  path: "/deploys",
  component: lazyRouteComponent(() => import("../features/deploys/page"), "DeploysPage"),
});
const deploy = createRoute({
  getParentRoute: () => inside,
  path: "/deploys/$service/$version",
  component: lazyRouteComponent(() => import("../features/deploys/one"), "DeployPage"),
});
const ask = createRoute({
  getParentRoute: () => inside,
  path: "/ask",
  component: lazyRouteComponent(() => import("../features/ask/page"), "AskPage"),
});
const sheets = createRoute({
  getParentRoute: () => inside,
  path: "/sheets",
  component: lazyRouteComponent(() => import("../features/sheets/list"), "SheetsPage"),
});
const sheet = createRoute({
  getParentRoute: () => inside,
  path: "/sheets/$name",
  component: lazyRouteComponent(() => import("../features/sheets/page"), "SheetPage"),
});
const serviceSheet = createRoute({
  getParentRoute: () => inside,
  path: "/sheet-of/$service",
  component: lazyRouteComponent(() => import("../features/sheets/page"), "ServiceSheetPage"),
});
const deploySheet = createRoute({
  getParentRoute: () => inside,
  path: "/sheet-of/$service/$version",
  component: lazyRouteComponent(() => import("../features/sheets/page"), "DeploySheetPage"),
});
const senders = createRoute({
  getParentRoute: () => inside,
  path: "/senders",
  component: lazyRouteComponent(() => import("../features/senders/page"), "SendersPage"),
});
const owners = createRoute({
  getParentRoute: () => inside,
  path: "/owners",
  component: lazyRouteComponent(() => import("../features/owners/page"), "OwnersPage"),
});
const cleanUp = createRoute({
  getParentRoute: () => inside,
  path: "/clean-up",
  component: lazyRouteComponent(() => import("../features/clean-up/page"), "CleanUpPage"),
});
const closeUps = createRoute({
  getParentRoute: () => inside,
  path: "/close-ups",
  component: lazyRouteComponent(() => import("../features/close-ups/page"), "CloseUpsPage"),
});
const installation = createRoute({
  getParentRoute: () => inside,
  path: "/installation",
  component: lazyRouteComponent(() => import("../features/installation/page"), "InstallationPage"),
});
const people = createRoute({
  getParentRoute: () => inside,
  path: "/people",
  component: lazyRouteComponent(() => import("../features/people/page"), "PeoplePage"),
});
const account = createRoute({
  getParentRoute: () => inside,
  path: "/account",
  component: lazyRouteComponent(() => import("../features/account/page"), "AccountPage"),
});

export const router = createRouter({
  // What a link leads to is loaded when somebody is about to follow it.
  defaultPreload: "intent",
  routeTree: root.addChildren([
    signIn,
    join,
    noticeLink,
    consent,
    kit,
    inside.addChildren([
      home,
      now,
      errors,
      error,
      occurrences,
      notices,
      connect,
      grouping,
      services,
      senders,
      trace,
      traffic,
      deploys,
      deploy,
      ask,
      sheets,
      sheet,
      serviceSheet,
      deploySheet,
      people,
      cleanUp,
      closeUps,
      installation,
      owners,
      account,
    ]),
  ]),
  defaultNotFoundComponent: () => (
    <p className="p-6">
      Nothing is here. The errors are at <a href="/errors">/errors</a>.
    </p>
  ),
  defaultErrorComponent: ({ error }) => (
    <p role="alert" className="p-6">
      The page could not be shown: {error instanceof Error ? error.message : String(error)}. Reload to try again.
    </p>
  ),
});

declare module "@tanstack/react-router" {
  interface Register {
    router: typeof router;
  }
}
