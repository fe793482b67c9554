// Remedies: when one was applied, and whether what was measured before still counts.
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type Model, post, remove } from "../../api/client";
import { Button, Field, INPUT } from "../../ui/controls";
import { CheckField, TextField } from "../../ui/fields";
import { dateTime } from "../../ui/format";
import { Popup } from "../../ui/popup";

type Site = Model<"SitePage">;

export function Remedies({ site }: { site: Site }) {
  const queries = useQueryClient();
  const drop = async (id: number) => {
    await remove("RemedyList", `/api/sites/${site.slug}/remedies/${id}`);
    await queries.invalidateQueries();
  };
  return (
    <div className="mt-4">
      {site.remedies.map((one) => (
        <p key={one.id} className="text-sm leading-snug">
          <span className="font-semibold">
            Remedy applied {dateTime(one.at_us, site.brief.time_zone)}: {one.words}.
          </span>{" "}
          {one.set_aside ? "Evidence from before is set aside" : "Evidence from before still counts"}
          {one.marked_by && `; marked by ${one.marked_by}`}.{" "}
          <button type="button" className="underline underline-offset-3" onClick={() => drop(one.id)}>
            Remove mark
          </button>
        </p>
      ))}
      <div className="mt-2">
        <MarkRemedy site={site} />
      </div>
    </div>
  );
}

function MarkRemedy({ site }: { site: Site }) {
  const queries = useQueryClient();
  const [words, setWords] = useState("");
  const [at, setAt] = useState("");
  const [setAside, setSetAside] = useState(true);
  const mark = async () => {
    await post("RemedyList", `/api/sites/${site.slug}/remedies`, {
      at_local: at,
      words,
      set_aside: setAside,
    });
    setWords("");
    await queries.invalidateQueries();
  };
  return (
    <Popup
      label="Mark remedy applied"
      trigger={<Button>Mark remedy applied …</Button>}
      confirm="Save"
      disabled={!words.trim() || !at}
      onConfirm={mark}
    >
      <TextField
        label="What was done"
        value={words}
        onChange={setWords}
        placeholder="fair queueing on the router"
      />
      <Field label={`When, at the site (${site.brief.time_zone})`}>
        <input
          type="datetime-local"
          className={INPUT}
          value={at}
          onChange={(event) => setAt(event.target.value)}
        />
      </Field>
      <CheckField
        label="Set aside what was measured before"
        hint="It stays on record but no longer counts in the verdict."
        value={setAside}
        onChange={setSetAside}
      />
    </Popup>
  );
}
