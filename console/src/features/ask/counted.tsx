import { useMutation } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { api, changed, taken, useMember } from "../../api/client";
import { Modal } from "../../ui/dialog";
import { Button, Field, Refused } from "../../ui/kit";

/** What has the question counted for good: from now on it is a metric, whatever is kept of its records. */
export function CountForGood({ question }: { question: string }) {
  const role = useMember().data?.role;
  const navigate = useNavigate();
  const [isOpen, setOpen] = useState(false);
  const [name, setName] = useState("");
  const [description, setDescription] = useState("");
  const put = useMutation({
    mutationFn: () =>
      taken(
        api.PUT("/api/v1/metrics/{name}", { params: { path: { name: name.trim() } }, body: { question, description } }),
      ),
    onSuccess: async () => {
      await changed("/api/v1/metrics", "/api/v1/metrics/{name}");
      setOpen(false);
      void navigate({ to: "/traffic", search: { view: "metrics", metric: name.trim() } });
    },
  });
  if (role === "viewer") return null;
  return (
    <>
      <Button onClick={() => setOpen(true)}>Count it for good</Button>
      <Modal title="Count the question for good" isOpen={isOpen} onClose={() => setOpen(false)}>
        <form
          className="w-[80vw] max-w-md space-y-3"
          onSubmit={(event) => {
            event.preventDefault();
            put.mutate();
          }}
        >
          <p>
            It becomes a metric: counted from now on, and backwards over what is kept. What comes late or is taken back
            is counted again. Its window and the number of rows are left out.
          </p>
          <p className="text-faint font-mono text-[13px] break-words">{question}</p>
          <Field label="Name" hint="such as fares.no-tariff" value={name} onChange={setName} required maxLength={100} />
          <Field
            label="Description"
            hint="what it is for"
            value={description}
            onChange={setDescription}
            maxLength={1000}
          />
          <Button look="main" type="submit" disabled={put.isPending || name.trim() === ""}>
            Count it
          </Button>
          {put.error && <Refused what="Not counted" error={put.error} />}
        </form>
      </Modal>
    </>
  );
}
