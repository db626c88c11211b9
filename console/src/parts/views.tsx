import { useMutation, useQuery } from "@tanstack/react-query";
import { useLocation, useRouter } from "@tanstack/react-router";
import { type SubmitEvent, useState } from "react";
import { api, changed, reading, taken, useMember } from "../api/client";
import { Confirm } from "../ui/dialog";
import { Button, Input, Refused } from "../ui/kit";

/** The views of this page that members saved, and what saves the page as it is now: scope, predicate and order. */
export function Views() {
  const { pathname, searchStr } = useLocation();
  const member = useMember().data;
  const saved = useQuery({ ...reading("/api/v1/views"), staleTime: 10_000 });
  const here = `${pathname}${searchStr}`;
  const items = (saved.data?.items ?? []).filter((view) => view.address.split("?")[0] === pathname);
  return (
    <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1 text-[13px]">
      {items.length > 0 && <span className="text-faint">Views</span>}
      {items.map((view) => (
        <One
          key={view.name}
          name={view.name}
          address={view.address}
          owner={view.owner}
          isOn={view.address === here}
          mayRemove={view.owner === member?.email || member?.role === "admin"}
        />
      ))}
      <Save address={here} taken={items.map((view) => view.name)} />
    </div>
  );
}

type OneProps = { name: string; address: string; owner: string; isOn: boolean; mayRemove: boolean };

function One({ name, address, owner, isOn, mayRemove }: OneProps) {
  const { history } = useRouter();
  const remove = useMutation({
    mutationFn: () => taken(api.DELETE("/api/v1/views/{name}", { params: { path: { name } } })),
    onSuccess: () => changed("/api/v1/views"),
  });
  return (
    <span className="whitespace-nowrap">
      <a
        href={address}
        title={`saved by ${owner}`}
        aria-current={isOn ? "page" : undefined}
        className="aria-[current]:text-ink aria-[current]:font-semibold aria-[current]:no-underline"
        onClick={(event) => {
          if (event.metaKey || event.ctrlKey || event.shiftKey) return;
          event.preventDefault();
          history.push(address);
        }}
      >
        {name}
      </a>
      {isOn && mayRemove && (
        <>
          {" "}
          <Confirm
            label="remove"
            title={`Remove the view ${name}?`}
            action="Remove"
            isPending={remove.isPending}
            onConfirm={() => remove.mutate()}
          >
            <p>It goes for everybody. The page itself stays as it is.</p>
          </Confirm>
        </>
      )}
      {remove.isError && <Refused what="Not removed" error={remove.error} />}
    </span>
  );
}

function Save({ address, taken: names }: { address: string; taken: string[] }) {
  const [name, setName] = useState<string>();
  const save = useMutation({
    mutationFn: (name: string) =>
      taken(api.PUT("/api/v1/views/{name}", { params: { path: { name } }, body: { address } })),
    onSuccess: () => {
      setName(undefined);
      return changed("/api/v1/views");
    },
  });
  if (name === undefined)
    return (
      <Button look="link" onClick={() => setName("")}>
        save this view
      </Button>
    );
  const send = (event: SubmitEvent) => {
    event.preventDefault();
    if (name.trim()) save.mutate(name.trim());
  };
  return (
    <form onSubmit={send} className="flex flex-wrap items-baseline gap-x-2">
      <label>
        Name of the view{" "}
        <Input ref={(field) => field?.focus()} value={name} maxLength={100} onChange={setName} className="w-40" />
      </label>
      <Button look="link" type="submit" disabled={save.isPending}>
        {names.includes(name.trim()) ? "change it" : "save"}
      </Button>
      <Button look="link" onClick={() => setName(undefined)}>
        leave it
      </Button>
      {save.isError && <Refused what="Not saved" error={save.error} />}
    </form>
  );
}
