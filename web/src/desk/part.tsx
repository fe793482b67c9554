import type { ReactNode } from "react";

/** A titled part of the page. */
export function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section className="mt-6">
      <h2 className="mb-2 text-lg">{title}</h2>
      {children}
    </section>
  );
}
