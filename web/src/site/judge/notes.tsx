// Notes pinned to a stretch of time, a leg or a call; numbered in the order of time, as the pictures number them.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type Model, post, put, remove } from "../../api/client";
import { Button, Note as Problem } from "../../ui/controls";
import { CheckField, SelectField, TextField } from "../../ui/fields";
import { dateTime } from "../../ui/format";
import { Popup } from "../../ui/popup";

type NoteView = Model<"Note">;
export type Numbered = NoteView & { number: number };

const LEGS = {
  "": "no leg in particular",
  inside: "inside the site",
  line: "the line",
  beyond: "beyond the edge",
};

const keyOf = (slug: string) => ["notes", slug];

const NONE: Numbered[] = [];
const numbered = (list: Model<"NoteList">): Numbered[] =>
  list.notes.map((one, i) => ({ ...one, number: i + 1 }));

/** The same list until a note changes. */
export function useNotes(slug: string): Numbered[] {
  const { data } = useQuery({
    queryKey: keyOf(slug),
    queryFn: () => get("NoteList", `/api/sites/${slug}/notes`),
    enabled: slug !== "",
    select: numbered,
  });
  return data ?? NONE;
}

interface Props {
  slug: string;
  zone: string;
  notes: Numbered[];
  /** What a new note is pinned to. */
  pin: { call_id: number } | { from_us: number; until_us: number };
  onOpen?: (note: Numbered) => void;
}

export function Notes({ slug, zone, notes, pin, onOpen }: Props) {
  const queries = useQueryClient();
  const [problem, setProblem] = useState<string | null>(null);
  const keep = async (asked: Promise<Model<"NoteList">>) => queries.setQueryData(keyOf(slug), await asked);
  const drop = async (id: number) => {
    try {
      await keep(remove("NoteList", `/api/sites/${slug}/notes/${id}`));
      setProblem(null);
    } catch (error) {
      setProblem((error as Error).message);
    }
  };
  const ofCall = "call_id" in pin;
  return (
    <>
      {notes.length > 0 && (
        <ol className="max-w-4xl">
          {notes.map((one) => (
            <li key={one.id} className="hair grid grid-cols-[28px_1fr] border-t py-1.5 leading-snug">
              <span>{one.number}</span>
              <div>
                <p className="break-words">{one.words}</p>
                <p className="text-sm text-soft">
                  {spanWords(one, zone)}
                  {one.leg && `, ${LEGS[one.leg]}`}
                  {one.by && ` · ${one.by}`}
                  {" · "}
                  {one.in_report ? "in the report" : "not in the report"}
                </p>
                <p className="flex flex-wrap gap-4 text-sm">
                  {onOpen && (
                    <button
                      type="button"
                      className="underline underline-offset-3"
                      onClick={() => onOpen(one)}
                    >
                      Show
                    </button>
                  )}
                  {!ofCall && one.call_id !== null && (
                    <Link className="underline underline-offset-3" to={`/calls/${one.call_id}`}>
                      Call {one.call_number} of run {one.run_id}
                    </Link>
                  )}
                  <Written
                    label={`Edit note ${one.number}`}
                    trigger={
                      <button type="button" className="underline underline-offset-3">
                        Edit …
                      </button>
                    }
                    before={one}
                    onSave={(words, in_report) =>
                      keep(put("NoteList", `/api/sites/${slug}/notes/${one.id}`, { words, in_report }))
                    }
                  />
                  <button type="button" className="underline underline-offset-3" onClick={() => drop(one.id)}>
                    Remove
                  </button>
                </p>
              </div>
            </li>
          ))}
        </ol>
      )}
      {problem && <Problem>{problem}</Problem>}
      <div className="mt-2">
        <Written
          label="Note"
          trigger={<Button>Add note …</Button>}
          legs={!ofCall}
          onSave={(words, in_report, leg) =>
            keep(post("NoteList", `/api/sites/${slug}/notes`, { words, in_report, leg, ...pin }))
          }
        >
          <p className="text-sm text-soft">
            {ofCall ? "It is of this call." : `It is of what is shown: ${spanWords(pin, zone)}.`}
          </p>
        </Written>
      </div>
    </>
  );
}

function Written(props: {
  label: string;
  trigger: React.ReactNode;
  before?: NoteView;
  legs?: boolean;
  onSave: (words: string, inReport: boolean, leg: NoteView["leg"]) => Promise<unknown>;
  children?: React.ReactNode;
}) {
  const [words, setWords] = useState(props.before?.words ?? "");
  const [leg, setLeg] = useState<NoteView["leg"]>("");
  const [inReport, setInReport] = useState(props.before?.in_report ?? true);
  const save = async () => {
    await props.onSave(words, inReport, leg);
    if (!props.before) setWords("");
  };
  return (
    <Popup
      label={props.label}
      trigger={props.trigger}
      confirm="Save"
      disabled={!words.trim()}
      onConfirm={save}
    >
      {props.children}
      <TextField label="Note" value={words} onChange={setWords} />
      {props.legs && (
        <SelectField
          label="Leg"
          value={leg}
          onChange={(value) => setLeg(value as NoteView["leg"])}
          options={Object.entries(LEGS)}
        />
      )}
      <CheckField label="In the report" value={inReport} onChange={setInReport} />
    </Popup>
  );
}

function spanWords({ from_us, until_us }: { from_us: number; until_us: number }, zone: string): string {
  const [from, until] = [dateTime(from_us, zone), dateTime(until_us, zone)];
  const [day, time] = until.split(", ");
  if (from === until) return from;
  return `${from} to ${from.startsWith(`${day},`) ? time : until}`;
}
