// By which values an engagement judges each codec: published ones stand, planning values may be replaced, with a reason.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { get, type Model, put, remove } from "../api/client";
import { paintMos } from "../charts/depth";
import { Button, Note } from "../ui/controls";
import { NumberField, TextField } from "../ui/fields";
import { plural } from "../ui/format";
import { Pending, Trail } from "../ui/screen";
import { Sheet } from "../ui/sheet";
import { Wide } from "../ui/wide";

type Page = Model<"ValuesPage">;
type Value = Model<"ValueView">;

const ORIGIN = { published: "published", planning: "planning value", own: "your own" };

export function CodecValuesScreen({ id }: { id: string }) {
  const path = `/api/engagements/${id}/codecs`;
  const queries = useQueryClient();
  const page = useQuery({
    queryKey: ["codec-values", id],
    queryFn: () => get("ValuesPage", path),
    refetchInterval: (query) => (waiting(query.state.data) > 0 ? 1000 : false),
  });
  if (!page.data) return <Pending what="the codecs" error={page.error} />;
  const take = async (next: Page) => {
    queries.setQueryData(["codec-values", id], next);
    await queries.invalidateQueries({ predicate: (query) => query.queryKey[0] !== "codec-values" });
  };
  const left = waiting(page.data);
  return (
    <>
      <Trail
        steps={[
          ["/", "Today"],
          [`/engagements/${id}`, page.data.engagement_name],
        ]}
        title="Codecs"
      />
      <h1 className="mt-2 text-3xl tracking-tight">How codecs are judged</h1>
      <p className="mt-1 max-w-3xl text-soft">
        Ie is what a codec costs without loss, Bpl how well it tolerates loss (ITU-T G.107). Published values
        stand. A planning value is ours where no standard prints one: if you have better ones, enter them, and
        every call of this engagement is judged again from its packets.
      </p>
      <p role="status" className="mt-3 min-h-6 font-semibold">
        {left > 0 && `${plural(left, "run")} still to be judged again.`}
      </p>
      <Wide label="Codec values">
        <table className="mt-2 w-full">
          <thead>
            <tr className="text-left text-sm text-soft [&>th]:pr-5 [&>th]:font-normal">
              <th>Codec</th>
              <th>Ie</th>
              <th>Bpl</th>
              <th>Status and source</th>
              {page.data.loss_pct.map((loss) => (
                <th key={loss} className="whitespace-nowrap">
                  {loss === 0 ? "MOS, no loss" : `at ${loss} %`}
                </th>
              ))}
              <th>Runs</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {page.data.codecs.map((value) => (
              <tr key={value.name} className="hair border-t align-top [&>td]:py-1.5 [&>td]:pr-5">
                <td className="font-semibold whitespace-nowrap">{value.title}</td>
                <td>{value.ie}</td>
                <td>{value.bpl}</td>
                <td className="leading-snug">
                  <span className={value.origin === "own" ? "font-semibold" : ""}>
                    {ORIGIN[value.origin]}
                  </span>
                  <span className="block text-sm text-soft">{value.source}</span>
                </td>
                {value.mos.map((mos, i) => (
                  <td key={page.data.loss_pct[i]} className="whitespace-nowrap">
                    <span
                      className="mr-2 inline-block h-3 w-5 border border-soft align-[-1px]"
                      style={{ background: paintMos(mos) }}
                    />
                    {mos.toFixed(2)}
                    <span className="block text-sm text-soft">{value.mos_wide[i]?.toFixed(2)} wideband</span>
                  </td>
                ))}
                <td>{value.runs || "–"}</td>
                <td className="text-right whitespace-nowrap">
                  {value.origin !== "published" && (
                    <Own value={value} path={`${path}/${value.name}`} onKept={take} />
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </Wide>
      <p className="mt-3 text-sm text-soft">
        MOS-CQEN, and below it MOS-CQEW on the wideband scale, at {page.data.delay_ms} ms mouth-to-ear with
        single losses. Calls and imported captures are judged again by changed values.
      </p>
    </>
  );
}

function waiting(page: Page | undefined): number {
  return page?.codecs.reduce((sum, value) => sum + value.stale, 0) ?? 0;
}

function Own({ value, path, onKept }: { value: Value; path: string; onKept: (page: Page) => Promise<void> }) {
  const [open, setOpen] = useState(false);
  const back = async () => onKept(await remove("ValuesPage", path));
  return (
    <span className="flex flex-wrap justify-end gap-4 text-sm [&>button]:underline [&>button]:underline-offset-3">
      <Dialog.Root open={open} onOpenChange={setOpen}>
        <Dialog.Trigger>
          Change …<span className="sr-only"> {value.title}</span>
        </Dialog.Trigger>
        <Sheet title={`Your own values for ${value.title}`}>
          <Values
            value={value}
            path={path}
            onKept={async (page) => {
              await onKept(page);
              setOpen(false);
            }}
          />
        </Sheet>
      </Dialog.Root>
      {value.origin === "own" && (
        <button type="button" onClick={back}>
          Restore planning values<span className="sr-only"> of {value.title}</span>
        </button>
      )}
    </span>
  );
}

function Values({
  value,
  path,
  onKept,
}: {
  value: Value;
  path: string;
  onKept: (page: Page) => Promise<void>;
}) {
  const [ie, setIe] = useState<number | null>(value.ie);
  const [bpl, setBpl] = useState<number | null>(value.bpl);
  const [why, setWhy] = useState(value.origin === "own" ? value.source : "");
  const [problem, setProblem] = useState<string | null>(null);
  const keep = async () => {
    setProblem(null);
    try {
      await onKept(await put("ValuesPage", path, { ie, bpl, why }));
    } catch (error) {
      setProblem((error as Error).message);
    }
  };
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        keep();
      }}
    >
      <p className="mt-1 text-soft">
        It comes with Ie {value.planning_ie} and Bpl {value.planning_bpl}: {value.planning_source}.
      </p>
      <div className="mt-5 grid lg:grid-cols-[110px_110px_1fr] gap-4">
        <NumberField label="Ie" value={ie} onChange={setIe} />
        <NumberField label="Bpl" value={bpl} onChange={setBpl} />
        <TextField label="Source" value={why} onChange={setWhy} placeholder="the report says it" />
      </div>
      <p className="mt-4 text-sm leading-snug">
        {value.runs === 0
          ? "No run of this engagement used this codec yet."
          : `${plural(value.runs, "run")} of this engagement will be judged again from their packets.`}
      </p>
      {problem && (
        <div className="mt-4">
          <Note>{problem}</Note>
        </div>
      )}
      <div className="mt-6 flex flex-wrap gap-3">
        <Button act type="submit">
          Save
        </Button>
        <Dialog.Close className="border border-ink bg-raised px-4 py-1.5 font-semibold">Cancel</Dialog.Close>
      </div>
    </form>
  );
}
