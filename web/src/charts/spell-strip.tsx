// The past week as one line, with a block for each time that a rule would have been told.
import { daysBetween, spellBlock } from "./spell-geometry";

interface Props {
  from: number;
  until: number;
  spells: { from_us: number; until_us: number | null }[];
  width?: number;
}

export function SpellStrip({ from, until, spells, width = 300 }: Props) {
  return (
    <svg
      viewBox={`0 0 ${width} 36`}
      className="w-full"
      role="img"
      aria-label={`${spells.length} ${spells.length === 1 ? "time" : "times"} in the past seven days`}
    >
      {daysBetween(from, until).map((day) => (
        <g key={day.at}>
          <path d={`M${day.at * width} 2v20`} stroke="var(--hair)" />
          <text x={day.at * width + 4} y={34} className="fill-soft text-[10px]">
            {day.name}
          </text>
        </g>
      ))}
      <path d={`M0 22.5H${width}`} stroke="var(--soft)" />
      {spells.map((spell) => {
        const block = spellBlock(spell, from, until, width);
        return (
          <rect
            key={`${spell.from_us}-${block.x}-${block.width}`}
            x={block.x}
            y={6}
            width={block.width}
            height={16}
            fill="var(--depth-5)"
            fillOpacity={0.75}
          />
        );
      })}
    </svg>
  );
}
