import { useMutation, useQuery } from "@tanstack/react-query";
import { type SubmitEvent, useState } from "react";
import { api, changed as readAgain, reading, taken } from "../../api/client";
import type { components } from "../../api/generated/schema";
import { Button, Callout, Field, Refused, Select } from "../../ui/kit";
import { PredicateBox } from "../../parts/predicate-box";
import {
  COUNTED,
  DAYS,
  KINDS,
  type Rule,
  TARGETS,
  changed,
  hoursInWords,
  paceInWords,
  passedOnInWords,
  waysInWords,
  whenInWords,
  whomInWords,
} from "./rule-words";
import { Checks, Slot } from "./slot";
import { Trial } from "./trial";

type Item = components["schemas"]["NoticeRuleItem"];
type SlotProps = { rule: Rule; set: (rule: Rule) => void };

/** Reads again what a changed rule changes. */
export const ruleChanged = () => readAgain("/api/v1/notice-rules", "/api/v1/notices", "/api/v1/audit");

const zones = Intl.supportedValuesOf("timeZone");
const here = () => Intl.DateTimeFormat().resolvedOptions().timeZone;

type EditorProps = {
  /** The rule to change; a new one has no number. */
  item: { id?: number; rule: Rule };
  /** Called when it is saved, or left. */
  onDone: (saved?: Item) => void;
};

/** A rule written by the slots of its sentence, tried over the past week before it is saved. */
export function Editor({ item, onDone }: EditorProps) {
  const [rule, set] = useState(item.rule);
  const save = useMutation({
    mutationFn: (body: Rule) =>
      taken(
        item.id === undefined
          ? api.POST("/api/v1/notice-rules", { body })
          : api.PUT("/api/v1/notice-rules/{id}", { params: { path: { id: item.id } }, body }),
      ),
    onSuccess: (saved) => {
      void ruleChanged();
      onDone(saved);
    },
  });
  const trial = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/notice-rules/try", { body: { rule } })),
  });
  const send = (event: SubmitEvent) => {
    event.preventDefault();
    save.mutate({ ...rule, is_on: true });
  };
  const slots = { rule, set };
  return (
    <form onSubmit={send} aria-label="Notice rule" className="border-line border-b pb-4">
      <div className="max-w-md">
        <Field required label="Name" value={rule.name} onChange={(name) => set({ ...rule, name })} maxLength={100} />
      </div>
      <p className="mt-4 max-w-4xl text-lg leading-8">
        When <WhenSlot {...slots} /> in <EnvironmentSlot {...slots} /> where <WhereSlot {...slots} />, tell{" "}
        <WhomSlot {...slots} /> by <WaysSlot {...slots} />, <PaceSlot {...slots} />, <HoursSlot {...slots} />.{" "}
        <PassOnSlot {...slots} />
      </p>
      <div className="mt-3 grid max-w-4xl gap-3 md:grid-cols-2">
        <Field
          label="What to do"
          hint="stands in each notice"
          value={rule.text ?? ""}
          onChange={(text) => set(changed(rule, "text", text))}
        />
        <Field
          isCode
          label="Runbook"
          type="url"
          placeholder="https://…"
          value={rule.runbook ?? ""}
          onChange={(runbook) => set(changed(rule, "runbook", runbook))}
        />
      </div>
      <p className="mt-4 flex flex-wrap gap-2">
        <Button disabled={trial.isPending} onClick={() => trial.mutate()}>
          {trial.isPending ? "Trying …" : "Try it on the past week"}
        </Button>
        <Button look="main" type="submit" disabled={save.isPending}>
          Save and switch on
        </Button>
        <Button disabled={save.isPending} onClick={() => save.mutate({ ...rule, is_on: false })}>
          Save, switched off
        </Button>
        <Button look="link" onClick={() => onDone()}>
          Leave it
        </Button>
      </p>
      {save.isError && <Refused what="Not saved" error={save.error} />}
      {trial.isError && <Refused what="Not tried" error={trial.error} />}
      {trial.data && <Trial result={trial.data} />}
    </form>
  );
}

function WhenSlot({ rule, set }: SlotProps) {
  const { threshold } = rule;
  const counts = (part: Partial<NonNullable<Rule["threshold"]>>) => {
    const all = { of: "occurrences", above: 10, minutes: 10, ...threshold, ...part };
    const next = all.of === "metric" ? all : { ...all, metric: null };
    const when = [next.of === "log-lines" ? "log-line" : "over"];
    set(changed({ ...rule, threshold: next, when }, "expected", undefined));
  };
  const flags = (when: string[]) =>
    set(changed(changed({ ...rule, when }, "threshold", undefined), "expected", undefined));
  const runs = (part: Partial<NonNullable<Rule["expected"]>>) => {
    const next = { service: "", by: "02:30", zone: here(), ...rule.expected, ...part };
    set(changed({ ...rule, expected: next, when: ["silent"] }, "threshold", undefined));
  };
  return (
    <Slot name="What happens" said={whenInWords(rule)} isOpen={rule.when.length === 0}>
      <Checks
        legend="Any of these happens"
        options={KINDS}
        chosen={threshold || rule.expected ? [] : rule.when}
        onChange={flags}
      />
      <fieldset>
        <legend className="font-semibold">Or a count passes a threshold</legend>
        <div className="flex flex-wrap items-center gap-1">
          more than
          <input
            type="number"
            aria-label="Threshold"
            min={0}
            step="any"
            className="border-line bg-sheet w-20 rounded-sm border px-2 py-1"
            value={threshold?.above ?? ""}
            onChange={(event) => counts({ above: Number(event.target.value) })}
          />
          <Select
            label="What is counted"
            value={threshold?.of ?? "occurrences"}
            options={COUNTED}
            onChange={(of) => counts({ of })}
          />
          within
          <input
            type="number"
            aria-label="Minutes"
            min={1}
            max={1440}
            className="border-line bg-sheet w-20 rounded-sm border px-2 py-1"
            value={threshold?.minutes ?? ""}
            onChange={(event) => counts({ minutes: Number(event.target.value) })}
          />
          min
        </div>
        {threshold?.of === "metric" && (
          <Field
            isCode
            label="Metric"
            hint="such as process.memory.usage; of one service, where the predicate names it"
            value={threshold.metric ?? ""}
            onChange={(metric) => counts({ metric })}
          />
        )}
      </fieldset>
      <fieldset>
        <legend className="font-semibold">Or something has not run by a time</legend>
        <div className="grid grid-cols-2 gap-2">
          <Field label="Service" value={rule.expected?.service ?? ""} onChange={(service) => runs({ service })} />
          <Field
            isCode
            label="Job"
            hint="or any"
            value={rule.expected?.endpoint ?? ""}
            onChange={(endpoint) => runs({ endpoint })}
          />
          <Field label="By" type="time" value={rule.expected?.by ?? ""} onChange={(by) => runs({ by })} />
          <Field label="Time zone" value={rule.expected?.zone ?? ""} onChange={(zone) => runs({ zone })} />
        </div>
      </fieldset>
    </Slot>
  );
}

function EnvironmentSlot({ rule, set }: SlotProps) {
  return (
    <Slot name="Environment" said={rule.environment ?? "any environment"} isOpen={!rule.environment}>
      <Field
        isCode
        label="Environment"
        hint="or a pattern, such as prod*"
        placeholder="any"
        value={rule.environment ?? ""}
        onChange={(environment) => set(changed(rule, "environment", environment))}
      />
    </Slot>
  );
}

function WhereSlot({ rule, set }: SlotProps) {
  return (
    <Slot name="Predicate" said={rule.where ?? "anything"} isOpen={!rule.where}>
      <p className="font-semibold">What must hold of it</p>
      <PredicateBox
        label="Predicate"
        placeholder="service in (fares, gangway)"
        value={rule.where ?? undefined}
        onApply={(where) => set(changed(rule, "where", where))}
      />
      <p className="text-faint text-[13px]">Enter puts it into the sentence.</p>
    </Slot>
  );
}

/** Members and teams, beside those that a rule finds out. */
function useNames(): [string, string][] {
  const teams = useQuery(reading("/api/v1/teams"));
  const members = useQuery(reading("/api/v1/members"));
  const names = [
    ...(teams.data?.items.map((team) => team.name) ?? []),
    ...(members.data?.items.map((member) => member.email) ?? []),
  ];
  return names.map((name) => [name, name]);
}

function WhomSlot({ rule, set }: SlotProps) {
  const names = useNames();
  const said = rule.otherwise
    ? `${whomInWords(rule.tell ?? [])} (else ${rule.otherwise})`
    : whomInWords(rule.tell ?? []);
  return (
    <Slot name="Whom" said={said} isOpen={(rule.tell ?? []).length === 0}>
      <Checks
        legend="Tell"
        options={[...TARGETS, ...names]}
        chosen={rule.tell ?? []}
        onChange={(tell) => set({ ...rule, tell })}
      />
      <label className="block">
        <span className="font-semibold">Where that is nobody</span>
        <Select
          className="block w-full"
          value={rule.otherwise ?? ""}
          options={[["", "the owner, else the admins"], ...names]}
          onChange={(otherwise) => set(changed(rule, "otherwise", otherwise))}
        />
      </label>
    </Slot>
  );
}

function WaysSlot({ rule, set }: SlotProps) {
  const ways = useQuery(reading("/api/v1/notice-ways"));
  const rules = useQuery(reading("/api/v1/notice-rules"));
  const named = ways.data?.items.map((item): [string, string] => [item.name, `${item.name}, a ${item.way.kind}`]) ?? [];
  const options: [string, string][] = [
    ["mail", rules.data?.has_mail === false ? "mail (not set up)" : "mail"],
    ["browser", "browser, while a page is open"],
    ["ticket", rules.data?.has_tickets === false ? "a ticket (not set up)" : "a ticket"],
    ...named,
  ];
  return (
    <Slot name="Ways" said={waysInWords(rule)} isOpen={rule.by.length === 0}>
      <Checks legend="By" options={options} chosen={rule.by} onChange={(by) => set({ ...rule, by })} />
    </Slot>
  );
}

const PACES: [string, string][] = [
  ["", "as often as it happens"],
  ["5", "at most once in 5 min"],
  ["15", "at most once in 15 min"],
  ["60", "at most once an hour"],
  ["240", "at most once in 4 h"],
  ["1440", "at most once a day"],
];

function PaceSlot({ rule, set }: SlotProps) {
  const now = String(rule.at_most_every_minutes ?? "");
  const options: [string, string][] = PACES.some(([each]) => each === now)
    ? PACES
    : [...PACES, [now, paceInWords(rule)]];
  return (
    <Slot name="How often" said={paceInWords(rule)} isOpen={!rule.at_most_every_minutes}>
      <label className="block">
        <span className="font-semibold">To the same person</span>
        <Select
          className="block w-full"
          value={now}
          options={options}
          onChange={(minutes) => set(changed(rule, "at_most_every_minutes", minutes ? Number(minutes) : undefined))}
        />
      </label>
      <p className="text-faint text-[13px]">What happens meanwhile comes together, at most 50 of it listed.</p>
    </Slot>
  );
}

function HoursSlot({ rule, set }: SlotProps) {
  const not = rule.not;
  const hours = (part: Partial<NonNullable<Rule["not"]>>) =>
    set({ ...rule, not: { from: "22:00", to: "06:00", zone: here(), ...not, ...part } });
  return (
    <Slot name="Hours" said={hoursInWords(rule)} isOpen={!not}>
      <label className="flex items-baseline gap-2">
        <input
          type="checkbox"
          checked={Boolean(not)}
          onChange={(event) => (event.target.checked ? hours({}) : set(changed(rule, "not", undefined)))}
        />
        Do not tell at certain hours
      </label>
      {not && (
        <>
          <div className="grid grid-cols-2 gap-2">
            <Field label="From" type="time" value={not.from} onChange={(from) => hours({ from })} />
            <Field label="To" type="time" value={not.to} onChange={(to) => hours({ to })} />
          </div>
          <Field label="Time zone" list="zones" value={not.zone ?? ""} onChange={(zone) => hours({ zone })} />
          <datalist id="zones">
            {zones.map((zone) => (
              <option key={zone} value={zone} />
            ))}
          </datalist>
          <Checks
            legend="Beginning on"
            options={DAYS}
            chosen={not.days?.length ? not.days : DAYS.map(([day]) => day)}
            onChange={(days) => hours({ days: days.length === DAYS.length ? [] : days })}
          />
          <Field
            isCode
            label="Except"
            hint="a predicate"
            placeholder="uncaught"
            value={not.except ?? ""}
            onChange={(except) => hours({ except })}
          />
        </>
      )}
    </Slot>
  );
}

function PassOnSlot({ rule, set }: SlotProps) {
  const names = useNames();
  const passOn = rule.pass_on;
  const to = (part: Partial<NonNullable<Rule["pass_on"]>>) =>
    set({ ...rule, pass_on: { after_minutes: 30, to: [], ...passOn, ...part } });
  return (
    <Slot name="Passing on" said={passedOnInWords(rule)} isOpen={!passOn}>
      <label className="flex items-baseline gap-2">
        <input
          type="checkbox"
          checked={Boolean(passOn)}
          onChange={(event) => (event.target.checked ? to({}) : set(changed(rule, "pass_on", undefined)))}
        />
        Pass it on when nobody takes it
      </label>
      {passOn && (
        <>
          <Field
            label="After minutes"
            type="number"
            min={1}
            value={String(passOn.after_minutes)}
            onChange={(minutes) => to({ after_minutes: Number(minutes) })}
          />
          <Checks
            legend="Tell then"
            options={[...TARGETS, ...names]}
            chosen={passOn.to}
            onChange={(each) => to({ to: each })}
          />
        </>
      )}
    </Slot>
  );
}

/** What keeps a rule from telling as it says. */
export function Troubles({ troubles }: { troubles: readonly string[] }) {
  if (troubles.length === 0) return null;
  return (
    <Callout tone="open">
      {troubles.map((trouble) => (
        <p key={trouble}>{trouble}</p>
      ))}
    </Callout>
  );
}
