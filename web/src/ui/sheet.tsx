// A dialog: a sheet laid over the page.
import { Dialog } from "radix-ui";
import type { ReactNode } from "react";

export function Sheet(props: { title: string; width?: number; children: ReactNode }) {
  return (
    <Dialog.Portal>
      <Dialog.Overlay className="fixed inset-0 z-10 bg-black/30" />
      <Dialog.Content
        aria-describedby={undefined}
        style={{ width: props.width ?? 680 }}
        className="fixed top-16 left-1/2 z-20 max-h-[calc(100vh-6rem)] max-w-[calc(100vw-2rem)] -translate-x-1/2 overflow-y-auto border border-ink bg-paper p-7"
      >
        <Dialog.Title className="text-xl">{props.title}</Dialog.Title>
        {props.children}
      </Dialog.Content>
    </Dialog.Portal>
  );
}
