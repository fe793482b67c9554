// The key to the one ramp.
import { BAD_MOS, CALM_MOS, paint } from "./depth";

export function RampKey() {
  return (
    <span className="inline-flex items-center gap-2 text-sm text-soft">
      {CALM_MOS} MOS or better
      <span className="inline-flex" aria-hidden="true">
        {Array.from({ length: 12 }, (_, i) => (
          <i key={i} className="inline-block h-2.5 w-3.5" style={{ background: paint(i / 11) }} />
        ))}
      </span>
      {BAD_MOS} or worse
    </span>
  );
}
