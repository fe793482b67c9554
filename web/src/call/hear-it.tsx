// A call to be heard: a sentence that nobody spoke, as it was sent, as it came, and with media sent first.
import type { Model } from "../api/client";

type Sound = NonNullable<Model<"CallSide">["sound"]>;

export function HearIt({ sound, path }: { sound: Sound; path: string }) {
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
        to {end.toFixed(0)} s, where the listener missed most. What was missed is filled in after ITU-T G.711
        Appendix I; for other codecs than G.711 it is an impression of their band and packets, not of their
        sound. Delay is not heard.
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
    </details>
  );
}
