// A measure's name that explains itself where it stands.
import { Popover } from "radix-ui";
import type { ReactNode } from "react";
import { GLOSSARY, type Measure } from "./glossary";

export function Term({ of, children }: { of: Measure; children?: ReactNode }) {
  const entry = GLOSSARY[of];
  return (
    <Popover.Root>
      <Popover.Trigger className="min-h-6 underline decoration-dotted decoration-soft underline-offset-3 hover:decoration-ink">
        {children ?? entry.title}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          sideOffset={6}
          aria-label={entry.title}
          className="z-20 max-w-80 border border-ink bg-raised px-4 py-3 text-sm leading-snug"
        >
          <p className="mb-1 font-semibold">{entry.title}</p>
          <p>{entry.what}</p>
          <p className="mt-1.5 text-soft">{entry.how}</p>
          <p className="mt-1.5">{entry.good}</p>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
