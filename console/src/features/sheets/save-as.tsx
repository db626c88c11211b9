import { useMutation } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { api, changed, taken } from "../../api/client";
import { Modal } from "../../ui/dialog";
import { Button, Field, Refused } from "../../ui/kit";
import type { SheetDocument } from "../../parts/sheet";

type Props = { document: SheetDocument; label: string; look?: "main" | "plain" };

/** Saves a document as a new sheet of one's own, and goes there. */
export function SaveAs({ document, label, look = "plain" }: Props) {
  const [isOpen, setOpen] = useState(false);
  const [name, setName] = useState("");
  const [about, setAbout] = useState(document.about ?? "");
  const navigate = useNavigate();
  const save = useMutation({
    mutationFn: (name: string) =>
      taken(
        api.PUT("/api/v1/sheets/{name}", {
          params: { path: { name } },
          body: { document: { ...document, about }, version: null },
        }),
      ),
    onSuccess: async (made) => {
      await changed("/api/v1/sheets");
      setOpen(false);
      void navigate({ to: "/sheets/$name", params: { name: made.name } });
    },
  });
  return (
    <>
      <Button look={look} onClick={() => setOpen(true)}>
        {label}
      </Button>
      <Modal title={label} isOpen={isOpen} onClose={() => setOpen(false)}>
        <form
          className="w-[80vw] max-w-md space-y-3"
          onSubmit={(event) => {
            event.preventDefault();
            save.mutate(name.trim());
          }}
        >
          <Field label="Name" value={name} onChange={setName} required maxLength={200} />
          <Field label="About" hint="what it is for" value={about} onChange={setAbout} maxLength={1000} />
          <Button look="main" type="submit" disabled={save.isPending || name.trim() === ""}>
            Save
          </Button>
          {save.error && <Refused what="Not saved" error={save.error} />}
        </form>
      </Modal>
    </>
  );
}
