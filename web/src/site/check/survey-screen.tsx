// Walking about with a probe: name a place, press once, go on; the places side by side.
import { type FormEvent, useState } from "react";
import { type Model, post, put } from "../../api/client";
import { paintMos } from "../../charts/depth";
import { SurveyBars } from "../../charts/survey-bars";
import { endOf, lossOf } from "../../charts/survey-geometry";
import { Button, Field, INPUT, Note, Section } from "../../ui/controls";
import { NumberField, SelectField } from "../../ui/fields";
import { DASH, dateTime, fixed, pct, withUnit } from "../../ui/format";
import { underWay, useLivePage } from "../../ui/live-page";
import { Pending, Trail } from "../../ui/screen";
import { Wide } from "../../ui/wide";

type Page = Model<"SurveyPage">;
type Place = Model<"PlaceView">;

const toCome = (place: Place) =>
  underWay(place) || (place.state === "done" && !place.place && place.words === "Being judged.");

export function SurveyScreen({ id }: { id: string }) {
  const [all, setAll] = useState(false);
  const path = `/api/sites/${id}/survey`;
  const { page, problem, change } = useLivePage("SurveyPage", path, (data) => data.places.some(toCome));
  if (!page.data) return <Pending what="the survey" error={page.error} />;
  const { data } = page;
  const removed = data.places.filter((one) => one.removed).length;
  const shown = data.places.filter((one) => all || !one.removed);
  const current = data.places.find(underWay);
  return (
    <>
      <Trail
        steps={[
          ["/", "Today"],
          [`/engagements/${data.engagement_slug}`, data.engagement_name],
          [`/sites/${id}`, data.site_name],
          [`/sites/${id}/check`, "Check"],
        ]}
        title="Walk-about survey"
      />
      <h1 className="mt-2 text-3xl tracking-tight">Walk-about survey, {data.site_name}</h1>
      <p className="mt-2 max-w-2xl leading-snug text-soft">
        Carry a laptop with a probe on it from place to place. At each, give the place a name and measure:
        small and large packets to the gateway and the far end, and one call to the far end, side by side.
      </p>
      <Ask page={data} current={current} onAsk={(body) => change(post("SurveyPage", path, body))} />
      {problem && (
        <div className="mt-4">
          <Note>{problem}</Note>
        </div>
      )}
      {current && (
        <div role="status" className="mt-4 flex flex-wrap items-center gap-4">
          <p className="text-lg font-semibold">
            {current.name}: {current.words}{" "}
            {current.left_s !== null &&
              current.left_s > 0 &&
              `About ${withUnit(Math.ceil(current.left_s), "s")} to go.`}
          </p>
          <Button onClick={() => change(post("SurveyPage", `${path}/${current.id}/stop`, {}))}>Stop</Button>
        </div>
      )}
      {shown.length > 0 && (
        <Section title="Places" aside={`newest first; target ${data.target_mos.toFixed(1)} MOS`}>
          <Places
            places={shown}
            page={data}
            onChange={(place, body) => change(put("SurveyPage", `${path}/${place.id}`, body))}
          />
        </Section>
      )}
      {removed > 0 && (
        <p className="mt-4">
          <Button onClick={() => setAll(!all)}>
            {all ? "Hide removed places" : `Show ${removed} removed`}
          </Button>
        </p>
      )}
    </>
  );
}

function Ask({
  page,
  current,
  onAsk,
}: {
  page: Page;
  current: Place | undefined;
  onAsk: (body: Model<"AskPlace">) => Promise<boolean>;
}) {
  const [probe, setProbe] = useState("");
  const [farEnd, setFarEnd] = useState("");
  const [name, setName] = useState("");
  const [seconds, setSeconds] = useState<number | null>(20);
  const from =
    page.probes.find((one) => String(one.id) === probe) ??
    page.probes.find((one) => one.online) ??
    page.probes[0];
  const to = page.far_ends.find((one) => String(one.id) === farEnd) ?? page.far_ends[0];
  if (!from) return <p className="mt-4">No probe has enrolled here yet. Place one on the laptop first.</p>;
  if (!to) return <p className="mt-4">No far end is chosen for this site yet. Choose one under Place.</p>;
  const ask = async (event: FormEvent) => {
    event.preventDefault();
    const asked = { probe_id: from.id, far_end_id: to.id, name: name.trim(), seconds: seconds ?? 20 };
    if (await onAsk(asked)) setName("");
  };
  return (
    <form onSubmit={ask} className="mt-5 flex flex-wrap items-end gap-4">
      <div className="w-64">
        <Field label="Place">
          <input
            className={INPUT}
            value={name}
            maxLength={80}
            placeholder="Ticket desk"
            onChange={(event) => setName(event.target.value)}
          />
        </Field>
      </div>
      <SelectField
        label="Probe carried"
        value={String(from.id)}
        onChange={setProbe}
        options={page.probes.map((one) => [String(one.id), one.online ? one.name : `${one.name} (offline)`])}
      />
      <SelectField
        label="To the far end"
        value={String(to.id)}
        onChange={setFarEnd}
        options={page.far_ends.map((one) => [String(one.id), one.name])}
      />
      <div className="w-28">
        <NumberField label="Measure for" unit="s" value={seconds} onChange={setSeconds} />
      </div>
      <Button act type="submit" disabled={current !== undefined || name.trim() === ""}>
        {current ? "Measuring …" : "Measure here"}
      </Button>
    </form>
  );
}

function Places({
  places,
  page,
  onChange,
}: {
  places: Place[];
  page: Page;
  onChange: (place: Place, body: Model<"ChangePlace">) => void;
}) {
  const nearMs = endOf(places.flatMap((one) => [one.gateway_small, one.gateway_large]));
  const farMs = endOf(places.flatMap((one) => [one.far_small, one.far_large]));
  return (
    <>
      <p className="mb-2 text-sm text-soft">
        Bars are round trips from the median to the 95th percentile: filled for small packets, open for large
        ones; loss in the same order.
      </p>
      <Wide label="Places">
        <table className="w-full">
          <thead>
            <tr className="text-left align-bottom text-sm text-soft [&>*]:pr-5 [&>*]:pb-1 [&>*]:font-normal">
              <th>Place</th>
              <th>Link</th>
              <th>
                To the gateway
                <span className="block">0 to {withUnit(nearMs, "ms")}</span>
              </th>
              <th>
                To the far end
                <span className="block">0 to {withUnit(farMs, "ms")}</span>
              </th>
              <th>
                Call up, down
                <span className="block">{page.codec_title}</span>
              </th>
              <th>What it says</th>
            </tr>
          </thead>
          <tbody>
            {places.map((one) => (
              <tr
                key={one.id}
                className={`hair border-t align-top [&>*]:py-2.5 [&>*]:pr-5 ${one.removed ? "text-soft" : ""}`}
              >
                <th className="max-w-48 text-left leading-snug font-semibold break-words">
                  <span className={one.removed ? "line-through" : ""}>{one.name}</span>
                  <span className="block text-sm font-normal text-soft">
                    {dateTime(one.asked_us, page.time_zone)}
                  </span>
                </th>
                <td className="whitespace-nowrap">
                  {one.medium ?? DASH}
                  <span className="block text-sm text-soft">
                    {[
                      one.wifi_signal_dbm !== null && `${one.wifi_signal_dbm} dBm`,
                      one.link_mbps !== null && withUnit(one.link_mbps, "Mbit/s"),
                    ]
                      .filter(Boolean)
                      .join(", ")}
                  </span>
                </td>
                <td>
                  <Echoed small={one.gateway_small} large={one.gateway_large} endMs={nearMs} />
                </td>
                <td>
                  <Echoed small={one.far_small} large={one.far_large} endMs={farMs} />
                </td>
                <td>
                  <CallHere place={one} />
                </td>
                <td className="min-w-56 leading-snug">
                  {one.place ? one.place.says.join(" ") || "Nothing stands out." : one.words}
                  {!underWay(one) && (
                    <button
                      type="button"
                      className="block pt-1 text-sm underline underline-offset-3"
                      onClick={() => onChange(one, { name: null, removed: !one.removed })}
                    >
                      {one.removed ? "Restore" : "Remove"}
                      <span className="sr-only"> {one.name}</span>
                    </button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </Wide>
    </>
  );
}

function Echoed({
  small,
  large,
  endMs,
}: {
  small: Model<"LookSeries"> | null;
  large: Model<"LookSeries"> | null;
  endMs: number;
}) {
  if (!small?.answered && !large?.answered)
    return <span className="text-sm text-soft">{small?.sent ? "answers no echo" : DASH}</span>;
  return (
    <>
      <SurveyBars small={small} large={large} endMs={endMs} />
      <span className="block text-sm whitespace-nowrap text-soft">
        lost {pct(lossOf(small))}, {pct(lossOf(large))}
      </span>
    </>
  );
}

/** MOS of both directions, each on its depth. */
export function CallHere({ place }: { place: Place }) {
  const found = place.place;
  if (!found || (!found.up && !found.down)) return <>{DASH}</>;
  return (
    <span className="flex gap-1 whitespace-nowrap">
      {[found.up, found.down].map((way, at) => (
        <span key={at === 0 ? "up" : "down"} className="inline-flex items-center gap-1.5 pr-2">
          <span
            aria-hidden
            className="inline-block h-4 w-4 border border-soft"
            style={{ background: paintMos(way?.mos ?? null) }}
          />
          {fixed(way?.mos, 2)}
        </span>
      ))}
      {found.acceptable === false && <span className="font-semibold">below target</span>}
    </span>
  );
}
