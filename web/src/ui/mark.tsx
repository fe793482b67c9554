// Our mark.

/** A sounding line let down into a tarn. */
export function Mark() {
  return (
    <svg viewBox="0 0 32 28" className="h-6 w-7" aria-hidden="true">
      <path d="M2 10C8 29 24 29 30 10Z" fill="var(--depth-2)" />
      <path d="M8 15C11 26 21 26 24 15Z" fill="var(--depth-4)" />
      <path d="M16 2v20" stroke="var(--ink)" strokeWidth="1.6" />
      <circle cx="16" cy="22" r="2.2" fill="var(--ink)" />
    </svg>
  );
}
