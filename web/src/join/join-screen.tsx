// The page behind a link, for people at a site: what will happen on their network, one file, and whether it is heard.
import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useEffect } from "react";
import { useParams } from "react-router";
import { get, type Model } from "../api/client";
import { ruleWords } from "../site/load/rule";
import { Note } from "../ui/controls";
import { count, dateTime, duration, withUnit } from "../ui/format";
import { Mark } from "../ui/mark";
import { slowing } from "../ui/polling";
import { SurveyHere } from "./survey-here";

const PACE = slowing(2000);

type Join = Model<"JoinPage">;

const HEADLINES: Record<Join["state"], string> = {
  open: "Help measure this network",
  running: "It runs. Thank you.",
  offline: "It is offline now",
  finished: "All done. Thank you.",
  expired: "This link has expired",
  revoked: "This link was revoked",
};

export function JoinScreen() {
  const { code } = useParams();
  const page = useQuery({
    queryKey: ["join", code],
    queryFn: () => get("JoinPage", `/api/join/${code}`),
    refetchInterval: PACE,
    retry: false,
  });
  useEffect(() => {
    document.title = "Help measure this network";
  }, []);
  return (
    <main className="mx-auto max-w-[640px] px-5 pt-5 pb-20">
      <p className="flex flex-wrap items-center gap-2 font-semibold">
        <Mark /> Tarnfell
      </p>
      {page.error && !page.data && (
        <div className="mt-8">
          <Note>{page.error.message}</Note>
        </div>
      )}
      {page.data && <Body page={page.data} code={code ?? ""} />}
    </main>
  );
}

function Body({ page, code }: { page: Join; code: string }) {
  const open = page.state === "open";
  return (
    <>
      <h1 className="mt-6 text-3xl leading-tight tracking-tight">{HEADLINES[page.state]}</h1>
      <p className="mt-2 leading-snug text-soft">
        {page.site}, {page.test_point} · asked by {page.from_whom} for {page.engagement}
      </p>
      <p role="status" className="mt-5 border-l-4 border-act bg-raised py-3 pr-3 pl-4 leading-snug">
        {page.says}
      </p>
      {open && (
        <>
          <Part title="What will happen">
            <ul className="list-disc space-y-1 pl-5 leading-snug">
              <li>
                A small program runs on a computer at the test point above and places test calls, with no
                audio of yours.
              </li>
              <li>
                It measures how the packets of those calls travel. It reads nothing else on your network.
              </li>
              <li>It opens connections outwards only. Nothing is installed.</li>
              <li>
                It stops when you close its window; starting it again goes on where it was. The computer must
                stay awake and on this network.
              </li>
              <li>
                It keeps one folder in your home folder,{" "}
                <span className="font-mono text-[13px]">.local/share/tarnfell</span> (on Windows{" "}
                <span className="font-mono text-[13px]">AppData\Local\tarnfell</span>), with its enrolment and
                results not yet delivered. Closing the window leaves that folder; when your consultant ends
                the work, the program deletes it.
              </li>
            </ul>
          </Part>
          <Part title="How long, and how much">
            {page.loads.length === 0 ? (
              <p className="leading-snug">
                No test calls are planned yet. The program alone sends a few kilobytes a minute.
              </p>
            ) : (
              <ul className="space-y-2">
                {page.loads.map((load) => (
                  <li key={`${load.words} ${load.next_us}`} className="leading-snug">
                    {load.words}, {duration(load.run_s)}
                    {load.recurs ? `, ${ruleWords(load.recurs)}` : ""}; first at{" "}
                    {dateTime(load.next_us, page.time_zone)}
                    <span className="block text-sm text-soft">
                      up to {withUnit(count(Math.round(load.peak_kbps)), "kbit/s")} each way, about{" "}
                      {withUnit(
                        load.volume_mb < 10 ? load.volume_mb.toFixed(1) : count(Math.round(load.volume_mb)),
                        "MB",
                      )}
                      each time
                    </span>
                  </li>
                ))}
              </ul>
            )}
          </Part>
          <Part title="What to do">
            <ol className="list-decimal space-y-3 pl-5 leading-snug">
              <li>
                On a computer at the test point: download the file, {page.file_kb} kB.
                <p className="mt-2">
                  <a
                    href={page.file}
                    className="inline-block border border-act bg-act px-5 py-2.5 font-semibold text-on-act"
                    download
                  >
                    Download the probe
                  </a>
                </p>
              </li>
              <li>
                Open a terminal in the folder of the file and start it:
                <Command text="python3 tarnfell-probe.pyz" />
                <span className="text-sm text-soft">
                  On Windows <span className="font-mono">py tarnfell-probe.pyz</span>. It needs Python 3.9 or
                  newer and nothing else.
                </span>
              </li>
              <li>Leave its window open. This page says when it is online.</li>
            </ol>
          </Part>
          <details className="mt-6">
            <summary className="cursor-pointer font-semibold">In one line, or on an always-on device</summary>
            <p className="mt-3 text-sm text-soft">Linux and macOS:</p>
            <Command text={page.command_unix} />
            <p className="mt-3 text-sm text-soft">Windows PowerShell:</p>
            <Command text={page.command_windows} />
            <p className="mt-3 leading-snug">
              For a device that should start by itself:{" "}
              <a
                className="underline underline-offset-3"
                href={page.file.replace("tarnfell-probe.pyz", "tarnfell-probe.service")}
                download
              >
                a systemd service unit
              </a>
              , with the steps at its top.
            </p>
          </details>
        </>
      )}
      {page.state === "running" && <SurveyHere code={code} />}
      {["open", "running", "offline"].includes(page.state) && (
        <Part title="For whoever runs the firewall">
          <p className="mb-2 leading-snug text-soft">Outbound only, to:</p>
          <ul className="space-y-2">
            {page.destinations.map((one) => (
              <li key={`${one.host} ${one.ports}`} className="leading-snug">
                <span className="font-mono text-[13px] break-all">{one.host}</span> {one.ports}
                <span className="block text-sm text-soft">{one.what}</span>
              </li>
            ))}
          </ul>
        </Part>
      )}
      <p className="mt-8 text-sm text-soft">
        The file enrols one computer, once, until {dateTime(page.until_us, page.time_zone)}. Keep this page to
        see how it goes.
      </p>
    </>
  );
}

function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section className="mt-7">
      <h2 className="rule mb-2 pt-2 text-lg">{title}</h2>
      {children}
    </section>
  );
}

function Command({ text }: { text: string }) {
  return (
    <p className="my-1.5 border border-hair bg-raised px-3 py-2 font-mono text-[13px] break-all select-all">
      {text}
    </p>
  );
}
