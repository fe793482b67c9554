// Buttons, fields and notes: the few controls everything is made of.
import { cloneElement, isValidElement, type ReactNode, useId } from "react";
import { Link } from "react-router";
import { ACT, Button, PLAIN } from "./button";

export { Button };

export function LinkButton({ act, to, children }: { act?: boolean; to: string; children: ReactNode }) {
  return (
    <Link to={to} className={act ? ACT : PLAIN}>
      {children}
    </Link>
  );
}

export function FileLink({ href, children }: { href: string; children: ReactNode }) {
  return (
    <a href={href} className={PLAIN} download>
      {children}
    </a>
  );
}

/** To a page of the server's own, beside this one. */
export function PageLink({ href, children }: { href: string; children: ReactNode }) {
  return (
    <a href={href} className={PLAIN} target="_blank" rel="noopener">
      {children}
    </a>
  );
}

interface FieldProps {
  label: string;
  hint?: ReactNode;
  /** The control, or what makes it from the id of the hint that describes it. */
  children: ReactNode | ((hintId: string | undefined) => ReactNode);
}

/** The label is the name; the hint describes and is not part of it. */
export function Field({ label, hint, children }: FieldProps) {
  const id = useId();
  const described = hint ? id : undefined;
  const control =
    typeof children === "function"
      ? children(described)
      : isValidElement<{ "aria-describedby"?: string }>(children) && described
        ? cloneElement(children, { "aria-describedby": described })
        : children;
  return (
    <div>
      {/* biome-ignore lint/a11y/noLabelWithoutControl: the control is the child; wrapping it ties the label to it */}
      <label className="block">
        <span className="text-sm text-soft">{label}</span>
        {control}
      </label>
      {hint && (
        <span id={id} className="mt-0.5 block text-sm text-soft">
          {hint}
        </span>
      )}
    </div>
  );
}

export const INPUT = "mt-0.5 block w-full border border-soft bg-raised px-2.5 py-1.5";

export function Note({ children }: { children: ReactNode }) {
  return (
    <p role="alert" className="border-l-4 border-ink bg-raised py-2 pl-3">
      {children}
    </p>
  );
}

export function Loading({ what }: { what: string }) {
  return (
    <p role="status" className="py-16 text-soft">
      Reading {what} …
    </p>
  );
}

export function Section({
  id,
  title,
  to,
  aside,
  children,
}: {
  id?: string;
  title: string;
  /** The page that the title leads to. */
  to?: string;
  aside?: ReactNode;
  children: ReactNode;
}) {
  return (
    <section id={id} className="mt-9 scroll-mt-4" aria-label={title}>
      <div className="rule mb-3 flex flex-wrap items-baseline justify-between gap-6 pt-2">
        <h2 className="text-lg">
          {to ? (
            <Link to={to} className="hover:underline">
              {title}
            </Link>
          ) : (
            title
          )}
        </h2>
        {aside && <div className="text-sm text-soft">{aside}</div>}
      </div>
      {children}
    </section>
  );
}

/** A figure as large as it matters, with its unit and name. */
export function Figure({ value, unit, children }: { value: string; unit?: string; children: ReactNode }) {
  return (
    <div>
      <p className="text-2xl font-semibold leading-tight">
        {value}
        {unit && <span className="ml-1 text-base font-normal text-soft">{unit}</span>}
      </p>
      <p className="text-sm text-soft">{children}</p>
    </div>
  );
}
