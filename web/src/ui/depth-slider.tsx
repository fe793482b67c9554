// The depth of a buffer as a slider: it moves while it is dragged, and counts when it is let go.
import { Slider } from "radix-ui";
import { type ReactNode, useEffect, useState } from "react";
import { withUnit } from "./format";

interface Props {
  label: string;
  value: number;
  most: number;
  step: number;
  onChange: (ms: number) => void;
  /** How the depth is said. */
  words?: (ms: number) => string;
  /** Beside the label. */
  children?: ReactNode;
}

export function DepthSlider({ label, value, most, step, onChange, words, children }: Props) {
  const [depth, setDepth] = useState(value);
  useEffect(() => setDepth(value), [value]);
  return (
    <div>
      <p className="flex flex-wrap justify-between text-sm text-soft">
        <span className="flex flex-wrap gap-4">
          <span id="depth-label">{label}</span>
          {children}
        </span>
        <span className="text-ink">{words ? words(depth) : withUnit(depth, "ms")}</span>
      </p>
      <Slider.Root
        className="relative mt-1 flex h-6 items-center"
        min={0}
        max={most}
        step={step}
        value={[depth]}
        onValueChange={([ms]) => setDepth(ms ?? value)}
        onValueCommit={([ms]) => onChange(ms ?? value)}
      >
        <Slider.Track className="relative h-px flex-1 bg-ink">
          <Slider.Range className="absolute -top-px h-[3px] bg-ink" />
        </Slider.Track>
        <Slider.Thumb aria-labelledby="depth-label" className="block h-5 w-2.5 border border-ink bg-raised" />
      </Slider.Root>
    </div>
  );
}
