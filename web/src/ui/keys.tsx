// The few single-key moves, and the list of them under "?".
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { CheckField } from "./fields";
import { toggleTheme } from "./theme";

const KEYS: [string, string][] = [
  ["?", "this list"],
  ["t", "switch theme, light or dark"],
  ["/", "to the filter, where there is one"],
  ["← → ↑ ↓", "from cell to cell on the day sheet"],
  ["Enter", "open the call of the cell"],
  ["[ and ]", "the call before and after in its run, on a call’s page"],
];

const KEPT = "tarnfell-shortcuts";
let off = localStorage.getItem(KEPT) === "off";

function isTyping(target: EventTarget | null): boolean {
  return target instanceof HTMLElement && /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName);
}

/** Call `act` when `key` is pressed outside a field. */
export function useKey(key: string, act: () => void): void {
  useEffect(() => {
    const listen = (event: KeyboardEvent) => {
      if (off && key !== "?") return;
      if (event.key === key && !event.ctrlKey && !event.metaKey && !event.altKey && !isTyping(event.target)) {
        event.preventDefault();
        act();
      }
    };
    addEventListener("keydown", listen);
    return () => removeEventListener("keydown", listen);
  }, [key, act]);
}

export function KeyHelp() {
  const [open, setOpen] = useState(false);
  const [on, setOn] = useState(!off);
  useKey("?", () => on && setOpen(true));
  useKey("t", toggleTheme);
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="text-sm hover:underline">Shortcuts ?</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-10 bg-black/30" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-28 left-1/2 z-20 w-[440px] max-w-[calc(100vw-2rem)] -translate-x-1/2 border border-ink bg-paper p-6"
        >
          <Dialog.Title className="mb-3 text-lg">Shortcuts</Dialog.Title>
          <dl className="grid grid-cols-[120px_1fr] gap-y-1.5">
            {KEYS.map(([key, words]) => (
              <div key={key} className="contents">
                <dt className="font-mono text-sm">{key}</dt>
                <dd>{words}</dd>
              </div>
            ))}
          </dl>
          <div className="mt-4">
            <CheckField
              label="Single-key shortcuts"
              hint="Switch them off where speech or another program types for you. Arrow keys stay."
              value={on}
              onChange={(next) => {
                off = !next;
                localStorage.setItem(KEPT, next ? "on" : "off");
                setOn(next);
              }}
            />
          </div>
          <Dialog.Close className="mt-5 border border-ink px-4 py-1.5 font-semibold">Close</Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
