// One lane on a canvas: a thread a call over the seconds, and below it each call's quality as depth.
import { useEffect, useRef } from "react";
import type { Model } from "../api/client";
import { useTheme } from "../ui/theme";
import { depthOfMos, resolvedRamp } from "./depth";

type Second = Model<"LiveSecondView">;

const HEIGHT = 190;
const THREADS = 112;
const GAP = 10;
const RIGHT = 64;

interface Props {
  side: "up" | "down";
  seconds: Second[];
  calls: number;
  length: number;
  expected: number;
}

export function Lane({ side, seconds, calls, length, expected }: Props) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const theme = useTheme();
  useEffect(() => {
    const element = canvas.current;
    const pen = element?.getContext("2d");
    if (!element || !pen) return;
    const width = element.clientWidth;
    const scale = devicePixelRatio;
    element.width = width * scale;
    element.height = HEIGHT * scale;
    pen.scale(scale, scale);
    const style = getComputedStyle(document.documentElement);
    const colour = (name: string) => style.getPropertyValue(name).trim();
    draw(pen, { side, seconds, calls, length, expected }, width, theme, {
      ink: colour("--ink"),
      soft: colour("--soft"),
      hair: colour("--hair"),
      ramp: resolvedRamp(),
    });
  }, [side, seconds, calls, length, expected, theme]);
  const last = seconds.at(-1)?.[side];
  const words = last ? `${last.rate.toFixed(0)} packets a second now` : "no packets yet";
  return (
    <canvas
      ref={canvas}
      role="img"
      aria-label={`Packets a second of each call, ${side}; ${words}`}
      className="w-full"
      style={{ height: HEIGHT }}
    />
  );
}

interface Inks {
  ink: string;
  soft: string;
  hair: string;
  ramp: string[];
}

function draw(pen: CanvasRenderingContext2D, lane: Props, width: number, _theme: string, inks: Inks): void {
  const plot = width - RIGHT;
  // The run's length, and three seconds in which late packets may still come.
  const x = (second: number) => (second / (lane.length + 3)) * plot;
  const top = lane.expected * 1.25;
  const y = (rate: number) => THREADS - (Math.min(rate, top) / top) * THREADS;
  pen.clearRect(0, 0, width, HEIGHT);
  pen.font = "12.5px 'Source Sans 3 Variable', sans-serif";
  pen.textBaseline = "middle";

  pen.strokeStyle = inks.hair;
  pen.strokeRect(0.5, 0.5, plot - 1, THREADS - 1);
  pen.strokeStyle = inks.ink;
  pen.setLineDash([2, 3]);
  line(pen, [
    [0, y(lane.expected)],
    [plot, y(lane.expected)],
  ]);
  pen.setLineDash([]);
  pen.fillStyle = inks.ink;
  pen.fillText(`${lane.expected.toFixed(0)} /s`, plot + 8, y(lane.expected));
  pen.fillStyle = inks.soft;
  pen.fillText("0", plot + 8, THREADS - 5);

  // Threads lie on one another while all is well; a call that fails leaves the bundle.
  pen.strokeStyle = inks.ink;
  pen.globalAlpha = Math.max(0.18, 1 / Math.sqrt(lane.calls));
  for (let call = 0; call < lane.calls; call++) {
    const shift = lane.calls > 1 ? (call / (lane.calls - 1) - 0.5) * 5 : 0;
    const points = lane.seconds
      .filter((s) => s.second <= lane.length)
      .map((s): [number, number] => [x(s.second - 0.5), y(s[lane.side].call_rates[call] ?? 0) + shift]);
    line(pen, points);
  }
  pen.globalAlpha = 1;

  const strip = HEIGHT - THREADS - GAP - 14;
  const row = strip / lane.calls;
  const cell = x(1);
  for (const second of lane.seconds) {
    second[lane.side].call_mos.forEach((mos, call) => {
      if (mos === null) return;
      pen.fillStyle = inks.ramp[Math.round(depthOfMos(mos) * (inks.ramp.length - 1))] ?? inks.ink;
      pen.fillRect(
        x(second.second - 1),
        THREADS + GAP + call * row,
        Math.max(1, cell - 0.5),
        Math.max(0.6, row - (row > 4 ? 1 : 0)),
      );
    });
  }
  pen.strokeStyle = inks.hair;
  pen.strokeRect(0.5, THREADS + GAP + 0.5, plot - 1, strip - 1);
  pen.fillStyle = inks.soft;
  pen.fillText("each call", plot + 8, THREADS + GAP + strip / 2);
  const step = lane.length > 90 ? 30 : lane.length > 25 ? 10 : 5;
  for (let second = 0; second <= lane.length; second += step) {
    pen.textAlign = second === 0 ? "left" : "center";
    pen.fillText(second === 0 ? "0 s" : String(second), x(second), HEIGHT - 6);
  }
  pen.textAlign = "left";
}

function line(pen: CanvasRenderingContext2D, points: [number, number][]): void {
  pen.beginPath();
  for (const [px, py] of points) pen.lineTo(px, py);
  pen.stroke();
}
