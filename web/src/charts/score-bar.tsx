// A score as a stretch of line: what is earned in ink, what is open hatched, what is lost left bare.
export function ScoreBar({ low, high }: { low: number; high: number }) {
  return (
    <svg viewBox="0 0 200 7" preserveAspectRatio="none" className="block h-[7px] w-full" aria-hidden="true">
      <path d="M0 3.5H200" stroke="var(--hair)" strokeWidth="1.4" />
      {high > low && (
        <rect
          x={low * 2}
          y="0.5"
          width={(high - low) * 2}
          height="6"
          fill="url(#score-open)"
          stroke="var(--soft)"
          strokeWidth="0.6"
        />
      )}
      {low > 0 && <rect x="0" y="0.5" width={low * 2} height="6" fill="var(--ink)" />}
      <defs>
        <pattern
          id="score-open"
          width="4"
          height="4"
          patternUnits="userSpaceOnUse"
          patternTransform="rotate(45)"
        >
          <path d="M0 0V4" stroke="var(--soft)" strokeWidth="1.6" />
        </pattern>
      </defs>
    </svg>
  );
}
