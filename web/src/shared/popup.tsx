// A small form that opens beside its button and closes when it is done.
import { Popover } from "radix-ui";
import { type ReactNode, useState } from "react";
import { Button } from "./controls";

interface Props {
  label: string;
  trigger: ReactNode;
  confirm: string;
  disabled?: boolean;
  /** True when it was done and the popup may close. */
  onConfirm: () => Promise<boolean>;
  children: ReactNode;
}

export function Popup({ label, trigger, confirm, disabled, onConfirm, children }: Props) {
  const [open, setOpen] = useState(false);
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger asChild>{trigger}</Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          sideOffset={6}
          collisionPadding={16}
          aria-label={label}
          className="z-20 w-96 border border-ink bg-raised p-4"
        >
          <form
            className="space-y-3"
            onSubmit={async (event) => {
              event.preventDefault();
              // A popup within a form of the page is a form of its own.
              event.stopPropagation();
              if (await onConfirm()) setOpen(false);
            }}
          >
            {children}
            <Button type="submit" disabled={disabled}>
              {confirm}
            </Button>
          </form>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
