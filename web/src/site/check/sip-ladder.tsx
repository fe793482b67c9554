// The messages of a registration and a call, drawn in time; each opens to its words. Beneath, what media the calls had.
import type { Model } from "../../api/client";
import { withUnit } from "../../ui/format";

type Message = Model<"SipMessage">;

/** With the far end both ends of each message are known, with a registrar only the probe's. */
export function SipLadder({
  messages,
  other,
  file,
}: {
  messages: Message[];
  other: "far end" | "registrar";
  file: string;
}) {
  return (
    <details className="mt-1 text-sm">
      <summary className="cursor-pointer text-soft">Messages with the {other}</summary>
      <div className="mt-1 grid grid-cols-[4.5rem_1fr] gap-x-3">
        <span />
        <p className="flex justify-between border-b border-ink pb-0.5 font-semibold">
          <span>probe</span>
          <span>{other}</span>
        </p>
        {messages.map((one) => (
          <Row key={`${one.transport} ${one.at_ms} ${first(one)}`} message={one} other={other} />
        ))}
      </div>
      <p className="mt-2">
        <a href={file} download className="underline underline-offset-3">
          Download all messages
        </a>
      </p>
    </details>
  );
}

function Row({ message, other }: { message: Message; other: "far end" | "registrar" }) {
  const { way, sent, arrived, transport, at_ms: at } = message;
  const lost = other === "far end" && arrived === "";
  const changed = arrived !== "" && sent !== "" && sent !== arrived;
  const words = `${first(message)}, ${transport.toUpperCase()}, ${way === "up" ? `to the ${other}` : "to the probe"}`;
  return (
    <>
      <span className="py-1 text-right text-soft">{withUnit(at.toFixed(0), "ms")}</span>
      <details className="border-x border-ink">
        <summary className="relative block cursor-pointer px-3 py-1 text-center" aria-label={words}>
          {first(message)} <span className="text-soft">{transport.toUpperCase()}</span>
          {lost && <strong className="ml-2">never arrived</strong>}
          {changed && <strong className="ml-2">rewritten</strong>}
          <Arrow way={way} lost={lost} />
        </summary>
        <div className={`grid gap-3 border-t border-hair p-2 ${changed ? "sm:grid-cols-2" : ""}`}>
          <Words
            title={changed ? "as sent" : "message"}
            text={sent || arrived}
            other={changed ? arrived : ""}
          />
          {changed && <Words title="as it arrived" text={arrived} other={sent} />}
        </div>
      </details>
    </>
  );
}

function Arrow({ way, lost }: { way: Message["way"]; lost: boolean }) {
  const [from, to] = way === "up" ? [0, 100] : [100, 0];
  const end = lost ? (from + to) / 2 : to;
  return (
    <svg
      className="absolute inset-x-0 bottom-0 h-2 w-full"
      viewBox="0 0 100 8"
      preserveAspectRatio="none"
      aria-hidden="true"
    >
      <path
        d={`M${from} 5H${end}`}
        stroke="var(--ink)"
        strokeDasharray={lost ? "2 2" : undefined}
        vectorEffect="non-scaling-stroke"
      />
      {!lost && <path d={way === "up" ? "M98.6 2L100 5L98.6 8Z" : "M1.4 2L0 5L1.4 8Z"} fill="var(--ink)" />}
    </svg>
  );
}

/** Lines that the other end does not have the same are marked by weight, not by colour alone. */
function Words({ title, text, other }: { title: string; text: string; other: string }) {
  const theirs = new Set(other.split("\r\n"));
  return (
    <div className="min-w-0">
      <p className="text-soft">{title}</p>
      <pre className="whitespace-pre-wrap font-mono text-[12px] leading-snug [overflow-wrap:anywhere]">
        {text
          .trimEnd()
          .split("\r\n")
          .map((line, place) => (
            <span key={place} className={other !== "" && !theirs.has(line) ? "font-bold underline" : ""}>
              {line}
              {"\n"}
            </span>
          ))}
      </pre>
    </div>
  );
}

function first(message: Message): string {
  const line = (message.sent || message.arrived).split("\r\n")[0] ?? "";
  return line.replace(/^SIP\/2\.0 /, "").replace(/ SIP\/2\.0$/, "");
}
