import { useMutation, useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { api, changed, reading, taken, useMember } from "../api/client";
import { Modal } from "../ui/dialog";
import { Button, Field, Refused, Select } from "../ui/kit";
import { MAX_PARTS, type SheetPart } from "./sheet";

type Props = {
  question: string;
  /** The name that the question is saved under, where it is that one unchanged. */
  saved: string | undefined;
};

/** Puts the question that is answered on a sheet of one's own, below what stands there. */
export function PutOnSheet({ question, saved }: Props) {
  const [isOpen, setOpen] = useState(false);
  const [name, setName] = useState("");
  const [title, setTitle] = useState(saved ?? "");
  const member = useMember().data;
  const sheets = useQuery({ ...reading("/api/v1/sheets"), enabled: isOpen });
  const own = (sheets.data?.items ?? []).filter(({ owner, parts }) => owner === member?.email && parts < MAX_PARTS);
  const put = useMutation({
    mutationFn: async () => {
      const path = { params: { path: { name } } };
      const { document, version } = await taken(api.GET("/api/v1/sheets/{name}", path));
      const part: SheetPart = { title: title.trim(), width: "half", ...(saved ? { saved } : { question }) };
      const body = { document: { ...document, parts: [...document.parts, part] }, version };
      return taken(api.PUT("/api/v1/sheets/{name}", { ...path, body }));
    },
    onSuccess: () => changed("/api/v1/sheets", "/api/v1/sheets/{name}"),
  });
  return (
    <>
      <Button
        onClick={() => {
          put.reset();
          setOpen(true);
        }}
      >
        Put on a sheet
      </Button>
      <Modal title="Put on a sheet" isOpen={isOpen} onClose={() => setOpen(false)}>
        {put.data ? (
          <p>
            It stands on{" "}
            <Link to="/sheets/$name" params={{ name: put.data.name }} search={{ service: undefined }}>
              {put.data.name}
            </Link>
            .
          </p>
        ) : sheets.data && own.length === 0 ? (
          <p>
            You have no sheet with room for it: <Link to="/sheets">make one</Link>.
          </p>
        ) : (
          <form
            className="w-[80vw] max-w-md space-y-3"
            onSubmit={(event) => {
              event.preventDefault();
              put.mutate();
            }}
          >
            <label className="block">
              <span className="font-semibold">Sheet</span>{" "}
              <Select
                label="Sheet"
                value={name}
                options={[["", "choose one of yours"], ...own.map(({ name }) => [name, name] as const)]}
                onChange={setName}
              />
            </label>
            <Field label="Title" value={title} onChange={setTitle} maxLength={200} />
            <Button look="main" type="submit" disabled={put.isPending || name === ""}>
              Put it there
            </Button>
            {put.error && <Refused what="Not changed" error={put.error} />}
          </form>
        )}
      </Modal>
    </>
  );
}
