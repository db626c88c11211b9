import { useMutation, useQuery } from "@tanstack/react-query";
import { type SubmitEvent, useState } from "react";
import { api, changed, reading, taken, useIsAdmin } from "../../api/client";
import type { components } from "../../api/generated/schema";
import { Confirm } from "../../ui/dialog";
import { Button, Callout, Field, Heading, Refused, Select } from "../../ui/kit";
import { Failed, Skeleton } from "../../ui/states";

type Item = components["schemas"]["NoticeWayItem"];

const after = () => changed("/api/v1/notice-ways", "/api/v1/notice-rules", "/api/v1/notices", "/api/v1/audit");

/** Ways by which notices go: those that are built in, and an installation's chats and webhooks. */
export function Ways() {
  const ways = useQuery(reading("/api/v1/notice-ways"));
  const rules = useQuery(reading("/api/v1/notice-rules"));
  const isAdmin = useIsAdmin();
  if (ways.isPending) return <Skeleton rows={4} />;
  if (ways.isLoadingError) return <Failed what="The ways" error={ways.error} retry={() => void ways.refetch()} />;
  const isSet = (is: boolean | undefined) => (is ? "is set up" : "is not set up");
  return (
    <div className="mt-4 grid gap-8 lg:grid-cols-[minmax(0,1fr)_24rem]">
      <section aria-label="Ways" className="min-w-0">
        <Heading>Ways</Heading>
        <ul>
          <li className="border-line border-b py-2">
            <b>mail</b> {isSet(rules.data?.has_mail)}
            {rules.data?.has_mail === false && (
              <span className="text-faint"> · start the service with --mail-server and --mail-from</span>
            )}
          </li>
          <li className="border-line border-b py-2">
            <b>browser</b> <span className="text-faint">shows a notice while a page of yours is open</span>
          </li>
          <li className="border-line border-b py-2">
            <b>ticket</b> {isSet(rules.data?.has_tickets)}
            {rules.data?.has_tickets === false && (
              <span className="text-faint"> · an admin sets it up with outcrop ticket set</span>
            )}
          </li>
          {ways.data.items.map((item) => (
            <Way key={item.name} item={item} isAdmin={isAdmin} />
          ))}
        </ul>
      </section>
      {isAdmin && <NewWay hosts={ways.data.hosts} />}
    </div>
  );
}

function Way({ item, isAdmin }: { item: Item; isAdmin: boolean }) {
  const path = { params: { path: { name: item.name } } };
  const remove = useMutation({
    mutationFn: () => taken(api.DELETE("/api/v1/notice-ways/{name}", path)),
    onSuccess: after,
  });
  const test = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/notice-ways/{name}/test", path)),
    onSuccess: after,
  });
  return (
    <li className="border-line border-b py-2">
      <div className="flex flex-wrap items-baseline gap-x-2">
        <b>{item.name}</b> <span>{item.way.kind}</span>
        <span className="font-mono text-[13px] break-all">{item.way.address}</span>
        {item.way.secret && <span className="text-faint text-[13px]">secret {item.way.secret}</span>}
        {isAdmin && (
          <span className="ml-auto flex gap-2">
            <Button disabled={test.isPending} onClick={() => test.mutate()}>
              Send a test
            </Button>
            <Confirm
              label="Remove"
              title={`Remove ${item.name}?`}
              action="Remove the way"
              isPending={remove.isPending}
              onConfirm={() => remove.mutate()}
            >
              <p>Rules that name it tell nobody by it any more.</p>
            </Confirm>
          </span>
        )}
      </div>
      {test.isSuccess && <Callout tone="good">A test is on its way. What is answered stands under Sent.</Callout>}
      {test.isError && <Refused error={test.error} />}
      {remove.isError && <Refused error={remove.error} />}
    </li>
  );
}

function NewWay({ hosts }: { hosts: string[] }) {
  const [name, setName] = useState("");
  const [kind, setKind] = useState<"chat" | "webhook">("chat");
  const [address, setAddress] = useState("");
  const [secret, setSecret] = useState("");
  const set = useMutation({
    mutationFn: () =>
      taken(
        api.PUT("/api/v1/notice-ways/{name}", {
          params: { path: { name } },
          body: { kind, address, ...(secret && { secret }) },
        }),
      ),
    onSuccess: () => {
      setName("");
      setAddress("");
      setSecret("");
      return after();
    },
  });
  const send = (event: SubmitEvent) => {
    event.preventDefault();
    set.mutate();
  };
  return (
    <section aria-label="A new way">
      <Heading>A new way</Heading>
      <form onSubmit={send} className="mt-2 space-y-2">
        <Field required isCode label="Name" placeholder="ops-room" value={name} onChange={setName} />
        <label className="block">
          <span className="font-semibold">Kind</span>
          <Select
            className="block w-full"
            value={kind}
            options={[
              ["chat", "chat: a text to an incoming webhook"],
              ["webhook", "webhook: CloudEvents, signed"],
            ]}
            onChange={setKind}
          />
        </label>
        <Field
          required
          isCode
          label="Address"
          placeholder="https://chat.skerry.example/rooms/{secret}"
          value={address}
          onChange={setAddress}
        />
        <Field
          isCode
          label="Secret's name"
          hint={kind === "chat" ? "stands for {secret} in the address" : "the key that signs"}
          placeholder="ops_room"
          value={secret}
          onChange={setSecret}
        />
        <p className="text-faint text-[13px]">
          The service knows the secret as OUTCROP_SECRET_{(secret || "NAME").toUpperCase()}.{" "}
          {hosts.length === 0
            ? "It may send to no host yet: start it with --outbound-host."
            : `It may send to ${hosts.join(", ")}.`}
        </p>
        <Button type="submit" disabled={set.isPending}>
          Set the way
        </Button>
        {set.isError && <Refused what="Not set" error={set.error} />}
      </form>
    </section>
  );
}
