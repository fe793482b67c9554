// Many sites from a CSV file: read first, each line with what is wrong with it, then kept.
import { useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { type Model, post } from "../api/client";
import { Button, FileLink, Note } from "../ui/controls";
import { plural } from "../ui/format";
import { Sheet } from "../ui/sheet";

export function ImportSites({ engagement }: { engagement: string }) {
  const queries = useQueryClient();
  const [csv, setCsv] = useState<string | null>(null);
  const [answer, setAnswer] = useState<Model<"SiteImportAnswer"> | null>(null);
  const [problem, setProblem] = useState<string | null>(null);
  const path = `/api/engagements/${engagement}/site-list`;
  const ask = async (text: string, keep: boolean) => {
    setProblem(null);
    try {
      setAnswer(await post("SiteImportAnswer", path, { csv: text, keep }));
      if (keep) await queries.invalidateQueries();
    } catch (error) {
      setAnswer(null);
      setProblem((error as Error).message);
    }
  };
  const read = async (file: File | undefined) => {
    if (!file) return;
    const text = decoded(await file.arrayBuffer());
    setCsv(text);
    await ask(text, false);
  };
  const good = answer?.lines.filter((line) => !line.problem).length ?? 0;
  return (
    <Dialog.Root
      onOpenChange={() => {
        setAnswer(null);
        setCsv(null);
        setProblem(null);
      }}
    >
      <Dialog.Trigger asChild>
        <Button>Import sites …</Button>
      </Dialog.Trigger>
      <Sheet title="Sites from a list" width={760}>
        <p className="mt-1 text-soft">
          A CSV file with a header line: <span className="font-mono text-[13px]">name</span>, and any other
          columns of the brief. Semicolons and tabs work as well as commas. A line changes the site that has
          its name, and makes a new one where none has; an empty cell leaves a field as it is,{" "}
          <span className="font-mono text-[13px]">none</span> empties it. The current list shows every column.
        </p>
        <div className="mt-4 flex flex-wrap items-center gap-4">
          <label className="cursor-pointer border border-ink bg-raised px-4 py-1.5 font-semibold focus-within:outline-2 focus-within:outline-act">
            Choose a file
            <input
              type="file"
              accept=".csv,text/csv,text/plain"
              className="sr-only"
              onChange={(event) => {
                read(event.target.files?.[0]);
                event.target.value = "";
              }}
            />
          </label>
          <FileLink href={`${path}.csv`}>Download current list as CSV</FileLink>
        </div>
        {problem && (
          <div className="mt-4">
            <Note>{problem}</Note>
          </div>
        )}
        {answer && <Lines answer={answer} />}
        <div className="mt-6 flex flex-wrap gap-3">
          {answer?.state === "read" && csv !== null && (
            <Button act disabled={good === 0} onClick={() => ask(csv, true)}>
              Save {plural(good, "site")}
            </Button>
          )}
          <Dialog.Close asChild>
            <Button>{answer?.state === "kept" ? "Done" : "Cancel"}</Button>
          </Dialog.Close>
        </div>
      </Sheet>
    </Dialog.Root>
  );
}

/** Spreadsheets still save lists in the Windows code page of western Europe. */
function decoded(bytes: ArrayBuffer): string {
  const mark = new Uint8Array(bytes.slice(0, 2));
  if (mark[0] === 0xff && mark[1] === 0xfe) return new TextDecoder("utf-16le").decode(bytes);
  if (mark[0] === 0xfe && mark[1] === 0xff) return new TextDecoder("utf-16be").decode(bytes);
  try {
    return new TextDecoder("utf-8", { fatal: true }).decode(bytes);
  } catch {
    return new TextDecoder("windows-1252").decode(bytes);
  }
}

function Lines({ answer }: { answer: Model<"SiteImportAnswer"> }) {
  const good = answer.lines.filter((line) => !line.problem).length;
  const made = answer.state === "kept";
  return (
    <>
      <p role="status" className="mt-5 font-semibold">
        {[
          [answer.lines.filter((line) => !line.problem && line.change === "new").length, "new"],
          [answer.lines.filter((line) => !line.problem && line.change === "changed").length, "changed"],
          [answer.lines.filter((line) => !line.problem && line.change === "unchanged").length, "unchanged"],
          [answer.lines.length - good, "cannot be saved"],
        ]
          .filter(([n]) => n)
          .map(([n, words]) => `${n} ${words}`)
          .join(", ")}
        {made ? "; saved." : "."}
      </p>
      <div className="mt-2 max-h-80 overflow-y-auto">
        <table className="w-full text-sm">
          <thead>
            <tr className="text-left text-soft [&>th]:pr-4 [&>th]:font-normal">
              <th>Line</th>
              <th>Site</th>
              <th>Concurrent calls</th>
              <th>{made ? "Saved as" : "What happens"}</th>
            </tr>
          </thead>
          <tbody>
            {answer.lines.map((line) => (
              <tr key={line.line} className="hair border-t align-top [&>td]:py-1 [&>td]:pr-4">
                <td>{line.line}</td>
                <td className="font-semibold">{line.name}</td>
                <td>{line.needed_calls ?? "–"}</td>
                <td>{line.problem ?? (made ? line.slug : line.change)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </>
  );
}
