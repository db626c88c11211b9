import { Dialog, DialogPanel, DialogTitle } from "@headlessui/react";
import { type ReactNode, useState } from "react";
import { Button } from "./kit";

type ModalProps = { title: string; isOpen: boolean; onClose: () => void; children: ReactNode };

/** Something above the page, that takes all keys until it is closed. */
export function Modal({ title, isOpen, onClose, children }: ModalProps) {
  return (
    <Dialog open={isOpen} onClose={onClose} className="relative z-30">
      <div className="fixed inset-0 flex items-center justify-center overflow-y-auto bg-black/30 p-4">
        <DialogPanel className="border-line bg-sheet text-ink max-w-lg rounded-sm border p-5">
          <DialogTitle className="mb-3 text-base font-semibold break-words">{title}</DialogTitle>
          {children}
        </DialogPanel>
      </div>
    </Dialog>
  );
}

type ConfirmProps = {
  /** What the button on the page says. */
  label: string;
  /** What is asked. */
  title: string;
  /** What it does to whom, and that it cannot be undone. */
  children: ReactNode;
  /** What the button that does it says. */
  action: string;
  isPending: boolean;
  onConfirm: () => void;
};

/** A button for what cannot be undone: it asks first, and the answer at hand is to leave it. */
export function Confirm({ label, title, children, action, isPending, onConfirm }: ConfirmProps) {
  const [isOpen, setOpen] = useState(false);
  return (
    <>
      <Button disabled={isPending} onClick={() => setOpen(true)}>
        {label}
      </Button>
      <Modal title={title} isOpen={isOpen} onClose={() => setOpen(false)}>
        {children}
        <p className="mt-4 flex flex-wrap gap-2">
          <Button onClick={() => setOpen(false)}>Leave it</Button>
          <Button
            look="bad"
            onClick={() => {
              setOpen(false);
              onConfirm();
            }}
          >
            {action}
          </Button>
        </p>
      </Modal>
    </>
  );
}
