// A call to be heard: a sentence that nobody spoke, as it was sent, as it came, and with media sent first.
import { useMutation } from "@tanstack/react-query";
import { Link } from "react-router";
import { type Model, put } from "../api/client";
import { Button } from "../ui/button";
import { withUnit } from "../ui/format";

type Sound = NonNullable<Model<"CallSide">["sound"]>;

interface Props {
  sound: Sound;
  /** Of the sound, with how it is judged. */
  path: string;
  site: string;
  call: number;
  way: "up" | "down";
}

export function HearIt({ sound, path, site, call, way }: Props) {
  const players: [string, string, string][] = [
    ["sent", "As it was sent", "every packet in time"],
    ["heard", "As it came", `${sound.missed} of ${sound.packets} packets filled in`],
  ];
  if (sound.missed_with_media_first !== null) {
    players.push([
      "media-first",
      "With media first in that queue",
      `${sound.missed_with_media_first} of ${sound.packets} packets filled in`,
    ]);
  }
  const end = sound.from_s + sound.seconds;
  return (
    <details className="mt-4">
      <summary className="cursor-pointer font-semibold">Hear it</summary>
      <p className="mt-1 max-w-[75ch] text-sm leading-snug text-soft">
        A sentence made by rule, in nobody’s voice, carried through the packets from {sound.from_s.toFixed(0)}{" "}
        to {withUnit(end.toFixed(0), "s")}, where the listener missed most. What was missed is filled in after
        ITU-T G.711 Appendix I; for other codecs than G.711 it is an impression of their band and packets, not
        of their sound. Delay is not heard.
      </p>
      <div className="mt-2 grid gap-4 sm:grid-cols-2 lg:grid-cols-3">
        {players.map(([what, title, words]) => (
          <div key={what}>
            <p className="text-sm font-semibold">{title}</p>
            <p className="text-sm text-soft">{words}</p>
            {/* biome-ignore lint/a11y/useMediaCaption: the sentence has no words */}
            <audio
              controls
              preload="none"
              className="mt-1 w-full"
              aria-label={title}
              src={`${path}&what=${what}`}
            />
            <a className="text-sm underline underline-offset-3" href={`${path}&what=${what}`} download>
              WAV
            </a>
          </div>
        ))}
      </div>
      <InReport site={site} call={call} way={way} />
    </details>
  );
}

/** The reader of the next report hears this call. */
function InReport({ site, call, way }: Pick<Props, "site" | "call" | "way">) {
  const choose = useMutation({
    mutationFn: () =>
      put("ReportsPage", `/api/sites/${site}/report/sound`, { call_id: call, direction: way }),
  });
  return (
    <div className="mt-3 flex flex-wrap items-baseline gap-3">
      <Button onClick={() => choose.mutate()}>Put it into the report</Button>
      {choose.isSuccess && (
        <span role="status">
          The next{" "}
          <Link className="underline underline-offset-3" to={`/sites/${site}/report`}>
            report
          </Link>{" "}
          plays it, by the run’s codec and a listener’s fixed buffer of 60 ms.
        </span>
      )}
      {choose.error && <span role="alert">{choose.error.message}</span>}
    </div>
  );
}
