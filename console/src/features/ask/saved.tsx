import { useMutation, useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { api, changed, reading, taken, useMember } from "../../api/client";
import { Confirm, Modal } from "../../ui/dialog";
import { Button, Field, Heading, Refused } from "../../ui/kit";
import { Failed, Skeleton } from "../../ui/states";
import { Ago } from "../../ui/time";
import { PutOnSheet } from "../../parts/put-on-sheet";
import { CountForGood } from "./counted";

/** Questions that members saved. */
export function SavedQuestions() {
  const saved = useQuery(reading("/api/v1/questions"));
  if (saved.isPending) return <Skeleton rows={2} />;
  if (saved.isLoadingError)
    return <Failed what="The saved questions" error={saved.error} retry={() => void saved.refetch()} />;
  if (saved.data.items.length === 0) return null;
  return (
    <section aria-label="Saved questions" className="mt-4">
      <Heading>Saved questions</Heading>
      <ul>
        {saved.data.items.map((item) => (
          <li key={item.name} className="border-line border-b py-2">
            <div className="flex flex-wrap items-baseline gap-x-4">
              <Link
                to="/ask"
                search={(now) => ({ ...now, question: item.question, saved: item.name })}
                className="font-semibold break-words"
              >
                {item.name}
              </Link>
              <span className="text-faint text-[13px]">
                {item.owner}, <Ago at={item.changed_at} />
              </span>
            </div>
            {item.description && <p className="break-words">{item.description}</p>}
            <span className="text-faint block font-mono text-[13px] break-words">{item.question}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}

type Props = {
  /** The question as it is asked now. */
  question: string;
  /** The name it was opened from. */
  name: string | undefined;
  onSaved: (name: string | undefined) => void;
};

/** What saves the question that is answered: under a new name, or as the next version of one's own. */
export function Save({ question, name, onSaved }: Props) {
  const member = useMember().data;
  const [isOpen, setOpen] = useState(false);
  const one = useQuery({
    ...reading("/api/v1/questions/{name}", { params: { path: { name: name ?? "" } } }),
    enabled: name !== undefined,
  });
  const saved = name === undefined ? undefined : one.data;
  const isOwn = saved !== undefined && saved.owner === member?.email;
  const isChanged = saved !== undefined && saved.question !== question;
  const put = useMutation({
    mutationFn: (as: { name: string; description: string; version: number | null }) =>
      taken(
        api.PUT("/api/v1/questions/{name}", {
          params: { path: { name: as.name } },
          body: { question, description: as.description, version: as.version },
        }),
      ),
    onSuccess: async (made) => {
      await changed("/api/v1/questions", "/api/v1/questions/{name}");
      setOpen(false);
      onSaved(made.name);
    },
  });
  const remove = useMutation({
    mutationFn: (name: string) => taken(api.DELETE("/api/v1/questions/{name}", { params: { path: { name } } })),
    onSuccess: async () => {
      await changed("/api/v1/questions");
      onSaved(undefined);
    },
  });
  return (
    <div className="mt-2 flex flex-wrap items-baseline gap-x-4 gap-y-1 text-[13px]">
      {saved && (
        <span className="text-faint">
          {isChanged ? "Changed from " : ""}
          <span className="text-ink font-semibold">{saved.name}</span>, version {saved.version} of {saved.owner}
        </span>
      )}
      {isOwn && isChanged && (
        <Button
          disabled={put.isPending}
          onClick={() => put.mutate({ name: saved.name, description: saved.description, version: saved.version })}
        >
          Save the change
        </Button>
      )}
      <Button onClick={() => setOpen(true)}>{saved ? "Save a copy" : "Save"}</Button>
      <PutOnSheet question={question} saved={saved && !isChanged ? saved.name : undefined} />
      <CountForGood question={question} />
      {isOwn && (
        <Confirm
          label={`Remove ${saved.name}`}
          title={`Remove the question ${saved.name}?`}
          action="Remove"
          isPending={remove.isPending}
          onConfirm={() => remove.mutate(saved.name)}
        >
          Its versions go with it, for everybody. This cannot be undone.
        </Confirm>
      )}
      {put.error && !isOpen && <Refused what="Not saved" error={put.error} />}
      {remove.error && <Refused what="Not removed" error={remove.error} />}
      <Modal title="Save the question" isOpen={isOpen} onClose={() => setOpen(false)}>
        <Form
          isPending={put.isPending}
          error={put.error}
          onSave={(name, description) => put.mutate({ name, description, version: null })}
        />
      </Modal>
    </div>
  );
}

type FormProps = { isPending: boolean; error: Error | null; onSave: (name: string, description: string) => void };

function Form({ isPending, error, onSave }: FormProps) {
  const [name, setName] = useState("");
  const [description, setDescription] = useState("");
  return (
    <form
      className="w-[80vw] max-w-md space-y-3"
      onSubmit={(event) => {
        event.preventDefault();
        onSave(name.trim(), description);
      }}
    >
      <Field label="Name" value={name} onChange={setName} required maxLength={200} />
      <Field label="Description" hint="what it is for" value={description} onChange={setDescription} maxLength={1000} />
      <Button look="main" type="submit" disabled={isPending || name.trim() === ""}>
        Save
      </Button>
      {error && <Refused what="Not saved" error={error} />}
    </form>
  );
}
