// Placing: where probes stand on the site's path, how they get there, and who answers their calls.
import { useState } from "react";
import type { Model } from "../api/client";
import { Button, Note, Section } from "../shared/controls";
import { SelectField, TextField } from "../shared/fields";
import { Popup } from "../shared/popup";
import { Pending, Trail } from "../shared/screen";
import { FarEnds } from "./far-ends";
import { ProbeCard } from "./probe-card";
import { MOST_NAMED, SpotPicture } from "./spot-picture";
import { type Change, usePlaces } from "./use-places";

type Page = Model<"PlacePage">;
type Spot = Model<"SpotView">;

export function PlaceScreen({ id }: { id: string }) {
  const { page, change, problem } = usePlaces(id);
  if (!page.data) return <Pending what="the test points" error={page.error} />;
  const places = page.data;
  return (
    <>
      <Trail
        steps={[
          ["/", "Engagements"],
          [`/engagements/${places.engagement_slug}`, places.engagement_name],
          [`/sites/${id}`, places.site_name],
        ]}
        title={`Test points of ${places.site_name}`}
      />
      <div className="mt-2 flex flex-wrap items-end justify-between gap-8">
        <div>
          <h1 className="text-3xl tracking-tight">Test points of {places.site_name}</h1>
          <p className="mt-1 text-soft">
            Two test points tell the inside from the line: one far from the WAN edge, one just behind the
            firewall.
          </p>
        </div>
        <AddSpot page={places} change={change} first={places.spots.length === 0} />
      </div>
      {problem && (
        <div className="mt-4">
          <Note>{problem}</Note>
        </div>
      )}
      <div className="mt-6">
        <SpotPicture page={places} />
      </div>
      <div className="grid lg:grid-cols-[1.45fr_1fr] gap-x-12">
        <div>
          {places.spots.map((spot, i) => (
            <Section
              key={spot.id}
              title={places.spots.length > MOST_NAMED ? `${i + 1} · ${spot.name}` : spot.name}
              aside={
                <span className="flex flex-wrap items-center gap-4">
                  {spot.kind_words}
                  <EditSpot page={places} spot={spot} change={change} problem={problem} />
                  <AddProbe spot={spot} change={change} first={spot.probes.length === 0} />
                </span>
              }
            >
              {spot.note && <p className="mb-2 text-sm text-soft">{spot.note}</p>}
              {spot.probes.length === 0 && <p>No probe here yet.</p>}
              {spot.probes.map((probe) => (
                <ProbeCard key={probe.id} probe={probe} page={places} change={change} />
              ))}
            </Section>
          ))}
          {places.spots.length === 0 && (
            <Section title="Test points">
              <p>
                Name a test point first: where in the building should calls be measured from? Where people
                take them is a good beginning.
              </p>
            </Section>
          )}
        </div>
        <FarEnds page={places} change={change} problem={problem} />
      </div>
    </>
  );
}

function AddSpot({ page, change, first }: { page: Page; change: Change; first: boolean }) {
  const [kind, setKind] = useState(page.spot_kinds[0]?.kind ?? "desk");
  const [name, setName] = useState("");
  const [note, setNote] = useState("");
  const why = page.spot_kinds.find((one) => one.kind === kind);
  return (
    <Popup
      label="Add a test point"
      trigger={<Button act={first}>Add a test point …</Button>}
      confirm="Add"
      onConfirm={async () => {
        const done = await change("post", "spots", { name: name.trim() || why?.words, kind, note });
        if (done) setName("");
        return done;
      }}
    >
      <SelectField
        label="Type of test point"
        value={kind}
        options={page.spot_kinds.map((one) => [one.kind, one.words] as const)}
        onChange={(value) => setKind(value as typeof kind)}
        hint={why?.why}
      />
      <TextField
        label="What people there call it"
        value={name}
        onChange={setName}
        placeholder={why?.words ?? ""}
      />
      <TextField label="Note, such as the room or the socket" value={note} onChange={setNote} />
    </Popup>
  );
}

/** Rename a test point, say better where it is, or delete it while nothing was measured from it. */
function EditSpot(props: { page: Page; spot: Spot; change: Change; problem: string | null }) {
  const { page, spot, change, problem } = props;
  const [kind, setKind] = useState(spot.kind);
  const [name, setName] = useState(spot.name);
  const [note, setNote] = useState(spot.note);
  const [tried, setTried] = useState(false);
  return (
    <Popup
      label={`Edit ${spot.name}`}
      trigger={
        <button type="button" className="underline underline-offset-3">
          Edit …
        </button>
      }
      confirm="Save"
      disabled={!name.trim()}
      onConfirm={async () => {
        const done = await change("put", `spots/${spot.id}`, { name, kind, note });
        setTried(!done);
        return done;
      }}
    >
      <SelectField
        label="Type of test point"
        value={kind}
        options={page.spot_kinds.map((one) => [one.kind, one.words] as const)}
        onChange={(value) => setKind(value as typeof kind)}
      />
      <TextField label="What people there call it" value={name} onChange={setName} />
      <TextField label="Note, such as the room or the socket" value={note} onChange={setNote} />
      {tried && problem && <Note>{problem}</Note>}
      {spot.probes.length === 0 && (
        <button
          type="button"
          className="block text-sm underline underline-offset-3"
          onClick={async () => setTried(!(await change("remove", `spots/${spot.id}`)))}
        >
          Delete this test point
        </button>
      )}
    </Popup>
  );
}

function AddProbe({ spot, change, first }: { spot: Spot; change: Change; first: boolean }) {
  const [name, setName] = useState("");
  return (
    <Popup
      label={`A probe for ${spot.name}`}
      trigger={<Button act={first}>Place a probe …</Button>}
      confirm="Create link"
      disabled={!name.trim()}
      onConfirm={async () => {
        const done = await change("post", "probes", { name, spot_id: spot.id });
        if (done) setName("");
        return done;
      }}
    >
      <TextField
        label="Name of the probe"
        value={name}
        onChange={setName}
        placeholder="reception-laptop"
        hint="You get a link for somebody at the site. No sign-in, nothing to install but Python."
      />
    </Popup>
  );
}
