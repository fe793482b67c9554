// Placing: where probes stand on the site's path, how they get there, and who answers their calls.
import { useState } from "react";
import type { Model } from "../../api/client";
import { MOST_NAMED, TestPointPicture } from "../../charts/test-point-picture";
import { Button, LinkButton, Note, Section } from "../../ui/controls";
import { SelectField, TextField } from "../../ui/fields";
import { Popup } from "../../ui/popup";
import { Pending, Trail } from "../../ui/screen";
import { FarEnds } from "./far-ends";
import { ProbeCard } from "./probe-card";
import { type Ask, usePlaces } from "./use-places";

type Page = Model<"PlacePage">;
type TestPoint = Model<"TestPointView">;

export function PlaceScreen({ id }: { id: string }) {
  const { page, ask, change, problem } = usePlaces(id);
  if (!page.data) return <Pending what="the test points" error={page.error} />;
  const places = page.data;
  return (
    <>
      <Trail
        steps={[
          ["/", "Today"],
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
        <div className="flex flex-wrap gap-3">
          <AddTestPoint page={places} ask={ask} first={places.test_points.length === 0} />
          <LinkButton to={`/sites/${id}/browser-tests`}>Tests from a browser …</LinkButton>
        </div>
      </div>
      {problem && (
        <div className="mt-4">
          <Note>{problem}</Note>
        </div>
      )}
      <div className="mt-6">
        <TestPointPicture page={places} />
      </div>
      <div className="grid lg:grid-cols-[1.45fr_1fr] gap-x-12">
        <div>
          {places.test_points.map((testPoint, i) => (
            <Section
              key={testPoint.id}
              title={places.test_points.length > MOST_NAMED ? `${i + 1} · ${testPoint.name}` : testPoint.name}
              aside={
                <span className="flex flex-wrap items-center gap-4">
                  {testPoint.kind_words}
                  <EditTestPoint page={places} testPoint={testPoint} ask={ask} />
                  <AddProbe testPoint={testPoint} ask={ask} first={testPoint.probes.length === 0} />
                </span>
              }
            >
              {testPoint.note && <p className="mb-2 text-sm text-soft">{testPoint.note}</p>}
              {testPoint.probes.length === 0 && <p>No probe here yet.</p>}
              {testPoint.probes.map((probe) => (
                <ProbeCard key={probe.id} slug={id} probe={probe} page={places} ask={ask} change={change} />
              ))}
            </Section>
          ))}
          {places.test_points.length === 0 && (
            <Section title="Test points">
              <p>
                Name a test point first: where in the building should calls be measured from? Where people
                take them is a good beginning.
              </p>
            </Section>
          )}
        </div>
        <FarEnds page={places} ask={ask} change={change} />
      </div>
    </>
  );
}

function AddTestPoint({ page, ask, first }: { page: Page; ask: Ask; first: boolean }) {
  const [kind, setKind] = useState(page.test_point_kinds[0]?.kind ?? "desk");
  const [name, setName] = useState("");
  const [note, setNote] = useState("");
  const why = page.test_point_kinds.find((one) => one.kind === kind);
  return (
    <Popup
      label="Add a test point"
      trigger={<Button act={first}>Add a test point …</Button>}
      confirm="Add"
      onConfirm={async () => {
        await ask("post", "test-points", { name: name.trim() || why?.words, kind, note });
        setName("");
      }}
    >
      <SelectField
        label="Type of test point"
        value={kind}
        options={page.test_point_kinds.map((one) => [one.kind, one.words] as const)}
        onChange={(value) => setKind(value as typeof kind)}
        hint={why?.why}
      />
      <TextField label="Name used on site" value={name} onChange={setName} placeholder={why?.words ?? ""} />
      <TextField label="Note, such as the room or the socket" value={note} onChange={setNote} />
    </Popup>
  );
}

/** Rename a test point, say better where it is, or delete it while nothing was measured from it. */
function EditTestPoint({ page, testPoint, ask }: { page: Page; testPoint: TestPoint; ask: Ask }) {
  const [kind, setKind] = useState(testPoint.kind);
  const [name, setName] = useState(testPoint.name);
  const [note, setNote] = useState(testPoint.note);
  return (
    <Popup
      label={`Edit ${testPoint.name}`}
      trigger={
        <button type="button" className="underline underline-offset-3">
          Edit …
        </button>
      }
      confirm="Save"
      disabled={!name.trim()}
      onConfirm={() => ask("put", `test-points/${testPoint.id}`, { name, kind, note })}
      also={
        testPoint.probes.length === 0
          ? { label: "Delete this test point", act: () => ask("remove", `test-points/${testPoint.id}`) }
          : undefined
      }
    >
      <SelectField
        label="Type of test point"
        value={kind}
        options={page.test_point_kinds.map((one) => [one.kind, one.words] as const)}
        onChange={(value) => setKind(value as typeof kind)}
      />
      <TextField label="Name used on site" value={name} onChange={setName} />
      <TextField label="Note, such as the room or the socket" value={note} onChange={setNote} />
    </Popup>
  );
}

function AddProbe({ testPoint, ask, first }: { testPoint: TestPoint; ask: Ask; first: boolean }) {
  const [name, setName] = useState("");
  return (
    <Popup
      label={`A probe for ${testPoint.name}`}
      trigger={<Button act={first}>Place a probe …</Button>}
      confirm="Create link"
      disabled={!name.trim()}
      onConfirm={async () => {
        await ask("post", "probes", { name, test_point_id: testPoint.id });
        setName("");
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
