// What a new plan begins with: what the brief says, between the first probe and far end that are there.
import type { Model } from "../../api/client";

type Form = Model<"PlanForm">;
type Probe = Model<"ProbeCard">;
type FarEnd = Model<"FarEndCard">;

/** The ends a site's calls can go between. */
export function ends(places: Model<"PlacePage">): { probes: Probe[]; farEnds: FarEnd[] } {
  return {
    probes: places.test_points
      .flatMap((testPoint) => testPoint.probes)
      .filter((probe) => probe.enrolled_us !== null),
    farEnds: places.far_ends.filter((far) => far.chosen),
  };
}

export function freshForm(site: Model<"SitePage">, probes: Probe[], farEnds: FarEnd[]): Form {
  const probe = probes.find((one) => one.state === "online") ?? probes[0];
  return {
    name: "",
    probe_id: probe?.id ?? 0,
    far_end_id: farEnds.find((far) => far.probe_id !== probe?.id)?.id ?? 0,
    codec: site.brief.codec,
    ptime_ms: site.brief.ptime_ms,
    dscp: 46,
    direction: "both",
    video: site.brief.video.map(({ profile, streams, dscp }) => ({ profile, streams, dscp })),
    shape: "ramp",
    first: 1,
    calls: Math.min(100, site.brief.needed_calls),
    by: Math.max(1, Math.round(site.brief.needed_calls / 6)),
    call_s: 60,
    rounds: 1,
    when: "now",
    start_local: null,
    rule: null,
  };
}

/** The plan that gives the evidence still missing; no picture streams, which would cost what was not asked for. */
export function closingForm(fresh: Form, closing: Model<"ClosingPlan">): Form {
  return {
    ...fresh,
    name: "Evidence that is missing",
    shape: "hold",
    calls: closing.calls,
    call_s: closing.call_s,
    rounds: 1,
    video: [],
    when: "repeat",
    start_local: closing.start_local,
    rule: closing.rule,
  };
}
