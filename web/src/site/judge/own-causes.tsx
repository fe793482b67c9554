// Causes that people know of and the evidence cannot: they stand in the report as the consultant's own.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { get, type Model, post, put, remove } from "../../api/client";
import { Button, Note } from "../../ui/controls";
import { TextAreaField, TextField } from "../../ui/fields";
import { Popup } from "../../ui/popup";

type Own = Model<"OwnCause">;
type Form = Model<"OwnCauseForm">;

export function OwnCauses({ slug }: { slug: string }) {
  const queries = useQueryClient();
  const [problem, setProblem] = useState<string | null>(null);
  const path = `/api/sites/${slug}/own-causes`;
  const { data } = useQuery({
    queryKey: ["own-causes", slug],
    queryFn: () => get("OwnCauseList", path),
  });
  const keep = async (asked: Promise<Model<"OwnCauseList">>) => {
    queries.setQueryData(["own-causes", slug], await asked);
  };
  const drop = async (id: number) => {
    try {
      await keep(remove("OwnCauseList", `${path}/${id}`));
      setProblem(null);
    } catch (error) {
      setProblem((error as Error).message);
    }
  };
  return (
    <div className="mt-6">
      <ul className="space-y-4">
        {data?.causes.map((own) => (
          <li key={own.id} className="hair border-t pt-2">
            <h3 className="text-[17px] leading-snug">{own.title}</h3>
            <p className="text-sm text-soft">
              added{own.by && ` by ${own.by}`}; takes no part in verdict and score
            </p>
            <dl className="mt-1 grid grid-cols-[84px_1fr] gap-y-1 text-sm leading-snug">
              <Line name="Known from" words={own.says} />
              <Line name="Remedy" words={own.remedy} />
              <Line name="Who acts" words={own.who} />
            </dl>
            <p className="mt-2 flex gap-3">
              <Words
                of={own}
                label={`Edit ${own.title}`}
                confirm="Save"
                onSave={(form) => keep(put("OwnCauseList", `${path}/${own.id}`, form))}
              >
                <Button>Edit …</Button>
              </Words>
              <Button onClick={() => drop(own.id)} aria-label={`Remove ${own.title}`}>
                Remove
              </Button>
            </p>
          </li>
        ))}
      </ul>
      {problem && <Note>{problem}</Note>}
      <p className="mt-4">
        <Words
          label="Add a cause"
          confirm="Add cause"
          onSave={(form) => keep(post("OwnCauseList", path, form))}
        >
          <Button>Add cause …</Button>
        </Words>
      </p>
    </div>
  );
}

function Line({ name, words }: { name: string; words: string }) {
  if (!words) return null;
  return (
    <>
      <dt className="text-soft">{name}</dt>
      <dd>{words}</dd>
    </>
  );
}

function Words(props: {
  of?: Own;
  label: string;
  confirm: string;
  onSave: (form: Form) => Promise<void>;
  children: ReactNode;
}) {
  const fresh = { title: "", says: "", remedy: "", who: "" };
  const [form, setForm] = useState<Required<Form>>(props.of ?? fresh);
  const set = (part: Partial<Form>) => setForm((was) => ({ ...was, ...part }));
  return (
    <Popup
      label={props.label}
      trigger={props.children}
      confirm={props.confirm}
      disabled={!form.title.trim()}
      onConfirm={async () => {
        const { title, says, remedy, who } = form;
        await props.onSave({ title, says, remedy, who });
        if (!props.of) setForm(fresh);
      }}
    >
      <p className="leading-snug">
        What you know and the evidence cannot. The report says that it is yours; verdict and score stay as the
        evidence has them.
      </p>
      <TextField label="Cause" value={form.title} onChange={(title) => set({ title })} />
      <TextField label="Known from" value={form.says} onChange={(says) => set({ says })} />
      <TextAreaField label="Remedy" rows={3} value={form.remedy} onChange={(remedy) => set({ remedy })} />
      <TextField label="Who acts" value={form.who} onChange={(who) => set({ who })} />
    </Popup>
  );
}
