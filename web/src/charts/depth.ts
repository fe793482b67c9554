// Depth is trouble: one ramp for every quality painted. tarnfell/report/figures.py holds the same scale for paper.

export const CALM_MOS = 4.35;
export const BAD_MOS = 2.6;
const STOPS = 6;

/** 0 (calm) to 1 (bad). */
export function depthOfMos(mos: number): number {
  return Math.min(1, Math.max(0, (CALM_MOS - mos) / (CALM_MOS - BAD_MOS)));
}

/** CSS colour at a depth of 0…1, following the theme. */
export function paint(depth: number): string {
  const at = depth * (STOPS - 1);
  const low = Math.min(Math.floor(at), STOPS - 2);
  const mix = Math.round((at - low) * 100);
  return `color-mix(in oklab, var(--depth-${low + 1}) ${mix}%, var(--depth-${low}))`;
}

export function paintMos(mos: number | null): string {
  return mos === null ? "transparent" : paint(depthOfMos(mos));
}

/** A picture score of 1…5: calm from 4.5, deepest at 2. */
export function paintScore(score: number | null): string {
  return score === null ? "transparent" : paint(Math.min(1, Math.max(0, (4.5 - score) / 2.5)));
}

/** The ramp resolved to plain colours, for canvases: `steps` of them from calm to bad. */
export function resolvedRamp(steps = 24): string[] {
  const probe = document.createElement("span");
  document.body.append(probe);
  const colours = Array.from({ length: steps }, (_, i) => {
    probe.style.color = paint(i / (steps - 1));
    return getComputedStyle(probe).color;
  });
  probe.remove();
  return colours;
}
