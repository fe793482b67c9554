// Targets: every bound with what it means and where it comes from; presets to start from, and to keep.
import { useQueryClient } from "@tanstack/react-query";
import { Popover } from "radix-ui";
import { useState } from "react";
import { type Model, put, remove } from "../../api/client";
import { Button, Note } from "../../ui/controls";
import { NumberField, TextField } from "../../ui/fields";

type Targets = Model<"TargetsForm">;
type Preset = Model<"PresetView">;

interface Props {
  page: Model<"BriefPage">;
  targets: Targets;
  onChange: (targets: Targets) => void;
}

export function TargetsSection({ page, targets, onChange }: Props) {
  const [presets, setPresets] = useState(page.presets);
  const current = presets.find((preset) => same(preset.targets, targets));
  return (
    <>
      <div className="flex flex-wrap items-baseline gap-x-2 gap-y-2">
        {presets.map((preset) => (
          <button
            key={preset.title}
            type="button"
            aria-pressed={preset === current}
            onClick={() => onChange(preset.targets)}
            className={`border border-ink px-3 py-1 ${preset === current ? "bg-ink text-paper" : "bg-raised"}`}
          >
            {preset.title}
          </button>
        ))}
        <KeepPreset page={page} targets={targets} current={current} onKept={setPresets} />
      </div>
      <p className="mt-1.5 text-sm text-soft">
        {current
          ? current.says || `Saved with ${page.engagement_name}.`
          : "Your own targets, not saved as a preset."}
      </p>
      <div className="mt-4 grid sm:grid-cols-2 gap-x-8 gap-y-5">
        {page.bounds.map((bound) => (
          <NumberField
            key={bound.key}
            label={bound.title}
            unit={bound.unit}
            value={targets[bound.key as keyof Targets] ?? null}
            placeholder={bound.optional ? "not required" : ""}
            onChange={(value) => onChange({ ...targets, [bound.key]: value })}
            hint={
              <>
                {bound.meaning} <span className="block">{bound.source}</span>
              </>
            }
          />
        ))}
      </div>
    </>
  );
}

function same(a: Targets, b: Targets): boolean {
  return (Object.keys(a) as (keyof Targets)[]).every((key) => (a[key] ?? null) === (b[key] ?? null));
}

/** Keep the targets under a name, or forget the kept ones that stand now. */
function KeepPreset(props: {
  page: Model<"BriefPage">;
  targets: Targets;
  current: Preset | undefined;
  onKept: (presets: Preset[]) => void;
}) {
  const { page, targets, current, onKept } = props;
  const queries = useQueryClient();
  const [open, setOpen] = useState(false);
  const [title, setTitle] = useState("");
  const [problem, setProblem] = useState<string | null>(null);
  const path = `/api/engagements/${page.engagement_slug}/presets`;
  const act = async (work: Promise<Model<"PresetList">>) => {
    try {
      onKept((await work).presets);
      setOpen(false);
      setTitle("");
      setProblem(null);
      queries.removeQueries({ queryKey: ["brief"] });
    } catch (error) {
      setProblem((error as Error).message);
    }
  };
  if (current?.id)
    return (
      <button
        type="button"
        className="px-2 text-sm underline underline-offset-3"
        onClick={() => act(remove("PresetList", `${path}/${current.id}`))}
      >
        Delete preset “{current.title}”
      </button>
    );
  if (current) return null;
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger className="px-2 text-sm underline underline-offset-3">
        Save as preset …
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          sideOffset={6}
          aria-label="Save as preset"
          className="z-20 w-80 border border-ink bg-raised p-4"
        >
          <form
            onSubmit={(event) => {
              event.preventDefault();
              // Through the page this form lies within the brief's own, which is not to be saved with it.
              event.stopPropagation();
              act(put("PresetList", path, { title, targets }));
            }}
          >
            <TextField
              label="Name of the preset"
              value={title}
              onChange={setTitle}
              hint={`For all sites of ${page.engagement_name}.`}
            />
            {problem && <Note>{problem}</Note>}
            <div className="mt-3">
              <Button type="submit" disabled={!title.trim()}>
                Save
              </Button>
            </div>
          </form>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
