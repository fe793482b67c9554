// The button, and its two looks for links that look like one. Beside the other controls because it needs no router.
import type { ComponentProps } from "react";

const BUTTON =
  "inline-flex items-center gap-2 px-4 py-1.5 text-[15px] font-semibold leading-6 disabled:opacity-50";
export const PLAIN = `${BUTTON} border border-ink bg-raised text-ink hover:bg-paper`;
export const ACT = `${BUTTON} border border-act bg-act text-on-act hover:brightness-110`;

/** `act` is for what the person should do next, and for nothing else. */
export function Button({ act, className = "", ...rest }: ComponentProps<"button"> & { act?: boolean }) {
  return <button type="button" className={`${act ? ACT : PLAIN} ${className}`} {...rest} />;
}
