import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, reading, taken, useMayAct } from "../../api/client";
import type { components } from "../../api/generated/schema";
import { Confirm } from "../../ui/dialog";
import { counted } from "../../ui/format";
import { Button, Callout, Heading, Refused } from "../../ui/kit";
import { Empty, Failed, Skeleton } from "../../ui/states";
import { Editor, Troubles, ruleChanged } from "./editor";
import { begun } from "./rule-words";
import { Trial } from "./trial";

type Item = components["schemas"]["NoticeRuleItem"];

/** The rules, each as the sentence that it acts by. */
export function Rules() {
  const rules = useQuery(reading("/api/v1/notice-rules"));
  const mayAct = useMayAct();
  const [edited, setEdited] = useState<number | "new">();
  const [saved, setSaved] = useState<Item>();
  if (rules.isPending) return <Skeleton rows={4} />;
  if (rules.isLoadingError)
    return <Failed what="The notice rules" error={rules.error} retry={() => void rules.refetch()} />;
  const { items } = rules.data;
  const done = (item?: Item) => {
    setSaved(item);
    setEdited(undefined);
  };
  return (
    <section aria-label="Rules" className="mt-4">
      {saved && (
        <Callout tone="good">
          {saved.rule.name} is saved and {saved.rule.is_on ? "on" : "off"}.
        </Callout>
      )}
      {mayAct && edited === undefined && (
        <p className="mb-2">
          <Button look="main" onClick={() => setEdited("new")}>
            New rule
          </Button>
        </p>
      )}
      {edited === "new" && (
        <>
          <Heading>A new rule</Heading>
          <Editor item={{ rule: begun("") }} onDone={done} />
        </>
      )}
      {items.length === 0 && edited === undefined && (
        <Empty title="There are no rules: nobody is told of anything.">
          <p>A good one to begin with: when an error becomes new or returns in production, tell the owner by mail.</p>
        </Empty>
      )}
      <ul>
        {items.map((item) =>
          edited === item.id ? (
            <li key={item.id}>
              <Editor item={item} onDone={done} />
            </li>
          ) : (
            <RuleRow key={item.id} item={item} mayAct={mayAct} edit={() => setEdited(item.id)} />
          ),
        )}
      </ul>
    </section>
  );
}

function RuleRow({ item, mayAct, edit }: { item: Item; mayAct: boolean; edit: () => void }) {
  const { id, rule } = item;
  const path = { params: { path: { id } } };
  const change = useMutation({
    mutationFn: () => taken(api.PUT("/api/v1/notice-rules/{id}", { ...path, body: { ...rule, is_on: !rule.is_on } })),
    onSuccess: ruleChanged,
  });
  const remove = useMutation({
    mutationFn: () => taken(api.DELETE("/api/v1/notice-rules/{id}", path)),
    onSuccess: ruleChanged,
  });
  const test = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/notice-rules/{id}/test", path)),
    onSuccess: ruleChanged,
  });
  const trial = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/notice-rules/try", { body: { rule } })),
  });
  const failed = [change, remove, test, trial].find((done) => done.isError);
  return (
    <li className="border-line border-b py-3">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <h3 className="font-semibold">{rule.name}</h3>
        <span className={rule.is_on ? "text-moss" : "text-faint"}>{rule.is_on ? "on" : "off"}</span>
        <span className="text-faint ml-auto text-[13px]">
          {counted(item.sent, "notice", "notices")} in 7 days · changed by {item.by}
        </span>
      </div>
      <p className={`break-words ${rule.is_on ? "" : "text-faint"}`}>{item.sentence}</p>
      {(rule.text ?? rule.runbook) && (
        <p className="text-faint text-[13px]">
          {rule.text} {rule.runbook && <a href={rule.runbook}>Runbook</a>}
        </p>
      )}
      <Troubles troubles={item.troubles} />
      <p className="mt-2 flex flex-wrap gap-2">
        <Button disabled={trial.isPending} onClick={() => trial.mutate()}>
          Try on the past week
        </Button>
        {mayAct && (
          <>
            <Button onClick={edit}>Change</Button>
            <Button disabled={change.isPending} onClick={() => change.mutate()}>
              Switch {rule.is_on ? "off" : "on"}
            </Button>
            <Button disabled={test.isPending} onClick={() => test.mutate()}>
              Send a test
            </Button>
            <Confirm
              label="Remove"
              title={`Remove ${rule.name}?`}
              action="Remove the rule"
              isPending={remove.isPending}
              onConfirm={() => remove.mutate()}
            >
              <p>Nobody is told by it any more. What it sent stays on record.</p>
            </Confirm>
          </>
        )}
      </p>
      {failed?.error && <Refused error={failed.error} />}
      {test.data && (
        <Callout tone="good">
          A test is on its way by {test.data.items.map((notice) => notice.way).join(", ")}. What is answered stands
          under Sent.
        </Callout>
      )}
      {trial.data && <Trial result={trial.data} />}
    </li>
  );
}
