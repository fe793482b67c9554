// Far ends: which of them answer this site's calls, how far each is from its probes, and adding one.
import { Dialog } from "radix-ui";
import { type ReactNode, useState } from "react";
import type { Model } from "../../api/client";
import { Button, Note, Section } from "../../ui/controls";
import { CheckField, NumberField, TextField } from "../../ui/fields";
import { ago, dateTime, ms } from "../../ui/format";
import { Sheet } from "../../ui/sheet";
import type { Ask, Change } from "./use-places";

type Page = Model<"PlacePage">;
type FarEnd = Model<"FarEndCard">;

const KINDS = { host: "", server: "this server’s own", probe: "a probe that answers" } as const;

interface Props {
  page: Page;
  ask: Ask;
  change: Change;
}

export function FarEnds({ page, ask, change }: Props) {
  return (
    <Section
      title="Far ends"
      aside={
        <FarEndDialog ask={ask}>
          <Button act={page.far_ends.length === 0}>Add a far end …</Button>
        </FarEndDialog>
      }
    >
      {page.far_ends.length === 0 && (
        <p className="leading-snug">
          Calls need a far end that answers. Run{" "}
          <span className="font-mono text-[13px]">tarnfell farend</span> where calls will really be answered,
          or let a probe at another test point answer them.
        </p>
      )}
      <ul className="space-y-5">
        {page.far_ends.map((far) => (
          <li key={far.id}>
            <CheckField
              label={far.name}
              hint={[far.place, KINDS[far.kind], far.other_sites ? `chosen by ${far.other_sites} more` : ""]
                .filter(Boolean)
                .join(" · ")}
              value={far.chosen}
              onChange={(chosen) => change("put", `far-ends/${far.id}/chosen`, { chosen })}
            />
            <div className="ml-[26px] text-sm">
              <p className="font-mono text-[13px]">
                {`${far.host}:${far.port}`}
                {far.media_low && (
                  <span className="text-soft">{` UDP ${far.media_low}–${far.media_high}`}</span>
                )}
              </p>
              <Distances far={far} page={page} />
              {far.kind === "host" && (
                <p className="mt-0.5 flex flex-wrap gap-4 [&>button]:underline [&>button]:underline-offset-3">
                  <FarEndDialog of={far} ask={ask}>
                    <button type="button">Edit …</button>
                  </FarEndDialog>
                  {far.other_sites === 0 && (
                    <button type="button" onClick={() => change("remove", `far-ends/${far.id}`)}>
                      Archive
                    </button>
                  )}
                </p>
              )}
            </div>
          </li>
        ))}
      </ul>
      {page.archived_far_ends.length > 0 && (
        <ul className="mt-5 text-sm" aria-label="Archived far ends">
          {page.archived_far_ends.map((far) => (
            <li key={far.id} className="hair flex flex-wrap items-baseline gap-x-4 border-t py-1.5">
              <span>
                {far.name}{" "}
                <span className="text-soft">archived {dateTime(far.archived_us, page.time_zone)}</span>
              </span>
              <button
                type="button"
                className="underline underline-offset-3"
                onClick={() => change("post", `far-ends/${far.id}/restore`)}
              >
                Restore
              </button>
            </li>
          ))}
        </ul>
      )}
    </Section>
  );
}

function Distances({ far, page }: { far: FarEnd; page: Page }) {
  const probes = page.test_points.flatMap((testPoint) => testPoint.probes);
  return (
    <>
      {far.distances.map((distance) => {
        const probe = probes.find((one) => one.id === distance.probe_id);
        if (!probe || probe.id === far.probe_id) return null;
        return (
          <p key={distance.probe_id}>
            {distance.connect_ms === null ? (
              <>
                not reached from {probe.name}: {distance.failure}
              </>
            ) : (
              <>
                <span className="font-semibold">{ms(distance.connect_ms, 1)}</span> from {probe.name}
                {distance.key_fits === true && ", key accepted"}
                {distance.key_fits === false && (
                  <span className="font-semibold">
                    , but it refuses the key: copy the contents of its key file again
                  </span>
                )}
              </>
            )}
            <span className="text-soft"> · {ago(distance.at_us)}</span>
          </p>
        );
      })}
    </>
  );
}

interface DialogProps {
  of?: FarEnd;
  ask: Ask;
  children: ReactNode;
}

function FarEndDialog({ of, ask, children }: DialogProps) {
  const [open, setOpen] = useState(false);
  const [problem, setProblem] = useState<string | null>(null);
  const [name, setName] = useState(of?.name ?? "");
  const [place, setPlace] = useState(of?.place ?? "");
  const [host, setHost] = useState(of?.host ?? "");
  const [port, setPort] = useState<number | null>(of?.port ?? 4870);
  const [low, setLow] = useState<number | null>(of?.media_low ?? 20000);
  const [high, setHigh] = useState<number | null>(of?.media_high ?? 20399);
  const [key, setKey] = useState("");
  const save = async () => {
    const form = {
      name,
      place,
      host,
      port: port ?? 4870,
      media_low: low ?? 20000,
      media_high: high ?? 20399,
      key: key || null,
    };
    try {
      await (of ? ask("put", `far-ends/${of.id}`, form) : ask("post", "far-ends", form));
      setKey("");
      setProblem(null);
      setOpen(false);
    } catch (error) {
      setProblem((error as Error).message);
    }
  };
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger asChild>{children}</Dialog.Trigger>
      <Sheet title={of ? `Far end ${of.name}` : "A far end on a host"} width={620}>
        {!of && (
          <p className="mt-1 leading-snug text-soft">
            Start it there first:{" "}
            <span className="font-mono text-[13px]">tarnfell farend --bind ADDRESS --key-file far.key</span>
          </p>
        )}
        <form
          className="mt-4 space-y-4"
          onSubmit={(event) => {
            event.preventDefault();
            save();
          }}
        >
          <div className="grid sm:grid-cols-2 gap-4">
            <TextField label="Name" value={name} onChange={setName} placeholder="service-west" />
            <TextField
              label="Location"
              value={place}
              onChange={setPlace}
              placeholder="hosted service, west"
            />
          </div>
          <div className="grid lg:grid-cols-[2fr_1fr_1fr_1fr] gap-4">
            <TextField label="Host or address" value={host} onChange={setHost} placeholder="far.example" />
            <NumberField label="TCP port" value={port} onChange={setPort} />
            <NumberField label="UDP from" value={low} onChange={setLow} />
            <NumberField label="UDP to" value={high} onChange={setHigh} />
          </div>
          <TextField
            label={of ? "New key, if it has changed" : "Key"}
            value={key}
            onChange={setKey}
            hint="Paste the contents of the key file; it is needed to place calls."
          />
          {problem && <Note>{problem}</Note>}
          <div className="flex flex-wrap gap-3">
            <Button act type="submit" disabled={!name.trim() || !host.trim() || (!of && !key.trim())}>
              {of ? "Save" : "Add"}
            </Button>
            <Dialog.Close asChild>
              <Button>Cancel</Button>
            </Dialog.Close>
          </div>
        </form>
      </Sheet>
    </Dialog.Root>
  );
}
