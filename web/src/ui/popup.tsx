// A small form that opens beside its button and closes when it is done. What is said against it stands in the form,
// whose text stays.
import { Popover } from "radix-ui";
import { type ReactNode, useState } from "react";
import { Button, Note } from "./controls";

interface Props {
  label: string;
  trigger: ReactNode;
  confirm: string;
  disabled?: boolean;
  /** Throws what the server says against it; otherwise it was done and the popup closes. */
  onConfirm: () => Promise<unknown>;
  /** A second thing that can be done from here. */
  also?: { label: string; act: () => Promise<unknown> } | undefined;
  children: ReactNode;
}

export function Popup({ label, trigger, confirm, disabled, onConfirm, also, children }: Props) {
  const [open, setOpen] = useState(false);
  const [problem, setProblem] = useState<string | null>(null);
  const attempt = async (act: () => Promise<unknown>) => {
    try {
      await act();
      setProblem(null);
      setOpen(false);
    } catch (error) {
      setProblem((error as Error).message);
    }
  };
  const change = (next: boolean) => {
    setOpen(next);
    setProblem(null);
  };
  return (
    <Popover.Root open={open} onOpenChange={change}>
      <Popover.Trigger asChild>{trigger}</Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          sideOffset={6}
          collisionPadding={16}
          aria-label={label}
          className="z-20 max-h-[var(--radix-popover-content-available-height)] w-96 overflow-y-auto border border-ink bg-raised p-4"
        >
          <form
            className="space-y-3"
            onSubmit={(event) => {
              event.preventDefault();
              // A popup within a form of the page is a form of its own.
              event.stopPropagation();
              attempt(onConfirm);
            }}
          >
            {children}
            {problem && <Note>{problem}</Note>}
            <div className="flex flex-wrap items-center gap-4">
              <Button type="submit" disabled={disabled}>
                {confirm}
              </Button>
              {also && (
                <button
                  type="button"
                  className="text-sm underline underline-offset-3"
                  onClick={() => attempt(also.act)}
                >
                  {also.label}
                </button>
              )}
            </div>
          </form>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
