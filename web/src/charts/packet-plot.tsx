// Where each packet went: heard below the buffer's edge, late above it, lost on the rail at the top.
import { useEffect, useRef } from "react";
import type { Model } from "../api/client";
import { useTheme } from "../ui/theme";
import { type Frame, frameOf, xOf, yOf } from "./packet-geometry";

type Side = Model<"CallSide">;

const HEIGHT = 190;

export function PacketPlot({ side, label }: { side: Side; label: string }) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const theme = useTheme();
  useEffect(() => {
    const element = canvas.current;
    const pen = element?.getContext("2d");
    if (!element || !pen) return;
    const style = getComputedStyle(document.documentElement);
    const width = element.clientWidth;
    element.width = width * devicePixelRatio;
    element.height = HEIGHT * devicePixelRatio;
    pen.scale(devicePixelRatio, devicePixelRatio);
    const ink = (name: string) => style.getPropertyValue(name).trim();
    const deepest = side.stretches.reduce((most, s) => Math.max(most, s.edge_most_ms), 0);
    draw(pen, side, frameOf(side.packets, deepest, width, HEIGHT), ink, theme === "dark");
  }, [side, theme]);
  const { lost, late, received } = side.figures;
  return (
    <canvas
      ref={canvas}
      role="img"
      aria-label={`${label}: ${received} packets arrived, ${late} of them late, ${lost} lost`}
      className="w-full"
      style={{ height: HEIGHT }}
    />
  );
}

function draw(
  pen: CanvasRenderingContext2D,
  side: Side,
  frame: Frame,
  ink: (name: string) => string,
  dark: boolean,
): void {
  const { left, right, top, bottom } = frame;
  pen.font = "12.5px 'Source Sans 3 Variable', sans-serif";
  pen.textBaseline = "middle";
  pen.strokeStyle = ink("--hair");
  pen.fillStyle = ink("--soft");
  pen.textAlign = "right";
  for (const value of frame.ticks) {
    const y = yOf(frame, value);
    pen.beginPath();
    pen.moveTo(left, y);
    pen.lineTo(right, y);
    pen.stroke();
    pen.fillText(String(value), left - 6, y);
  }
  pen.textAlign = "left";
  pen.fillText("ms behind", right + 6, bottom - 6);
  pen.fillText("lost", right + 6, 9);

  for (const packet of side.packets) {
    const x = xOf(frame, packet.at_ms);
    if (packet.pdv_ms === null) {
      pen.fillStyle = ink("--depth-5");
      pen.fillRect(x - 0.8, 2, 1.6, 14);
    } else if (packet.fate === "late") {
      pen.fillStyle = ink("--depth-4");
      const y = yOf(frame, packet.pdv_ms);
      pen.beginPath();
      pen.moveTo(x, y - 3);
      pen.lineTo(x + 3, y + 2.4);
      pen.lineTo(x - 3, y + 2.4);
      pen.fill();
    } else {
      pen.fillStyle = ink(dark ? "--depth-2" : "--depth-3");
      pen.fillRect(x - 0.9, yOf(frame, packet.pdv_ms) - 0.9, 1.8, 1.8);
    }
  }

  // The buffer's edge: a step where an adaptive one changes its depth, or where the route became longer or shorter. Of a
  // stretch in which it did so, from its least to its most.
  let edge = bottom;
  pen.strokeStyle = ink("--ink");
  pen.beginPath();
  side.stretches.forEach((one, i) => {
    const [from, to] = [i, i + 1].map((n) => xOf(frame, n * side.stretch_s * 1000)) as [number, number];
    edge = yOf(frame, one.edge_most_ms);
    pen.lineTo(Math.max(left, from), edge);
    if (one.edge_least_ms < one.edge_most_ms) {
      pen.lineTo(Math.max(left, from), yOf(frame, one.edge_least_ms));
      pen.lineTo(Math.min(right, to), yOf(frame, one.edge_least_ms));
    }
    pen.lineTo(Math.min(right, to), edge);
  });
  pen.stroke();
  pen.fillStyle = ink("--ink");
  pen.fillText("buffer", right + 6, Math.max(top + 6, Math.min(bottom - 22, edge)));
}
