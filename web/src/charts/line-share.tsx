import { pct, withUnit } from "../ui/format";

/** A share of the line as a length of it, with the ceiling as a mark. */
export function LineShare(props: { name: string; share: number | null; ceiling: number | null }) {
  const { name, share, ceiling } = props;
  return (
    <div className="mt-3">
      <p className="flex flex-wrap justify-between text-sm">
        <span>
          <span className="font-semibold">{pct(share, share !== null && share < 10 ? 1 : 0)}</span> {name}
        </span>
        {ceiling !== null && <span className="text-soft">tests up to {withUnit(ceiling, "%")}</span>}
      </p>
      <div className="relative mt-1 h-2.5 border border-ink bg-raised" aria-hidden="true">
        <div
          className="h-full"
          style={{ width: `${Math.min(100, share ?? 0)}%`, background: depthOf(share ?? 0) }}
        />
        {ceiling !== null && (
          <span className="absolute -top-1 -bottom-1 w-px bg-ink" style={{ left: `${ceiling}%` }} />
        )}
      </div>
    </div>
  );
}

/** Trouble begins where little of the line is left. */
function depthOf(share: number): string {
  const step = share > 100 ? 5 : share > 90 ? 4 : share > 75 ? 3 : share > 50 ? 2 : 1;
  return `var(--depth-${step})`;
}
