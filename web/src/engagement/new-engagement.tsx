// Beginning an engagement, or changing its name, summary and paper.
import { useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { type ReactNode, useState } from "react";
import { useNavigate } from "react-router";
import { type Model, post, put } from "../api/client";
import { Button, Note } from "../ui/controls";
import { SelectField, TextAreaField, TextField } from "../ui/fields";
import { Sheet } from "../ui/sheet";

type Paper = "A4" | "Letter";

interface Props {
  /** The engagement to change; none makes a new one. */
  of?: { slug: string; name: string; summary: string; paper: Paper };
  children: ReactNode;
}

export function EngagementDialog({ of, children }: Props) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [open, setOpen] = useState(false);
  const [name, setName] = useState(of?.name ?? "");
  const [summary, setSummary] = useState(of?.summary ?? "");
  const [paper, setPaper] = useState<Paper>(of?.paper ?? "A4");
  const [problem, setProblem] = useState<string | null>(null);
  const save = async () => {
    const form: Model<"EngagementForm"> = { name, summary, paper };
    try {
      const made = of
        ? await put("Made", `/api/engagements/${of.slug}`, form)
        : await post("Made", "/api/engagements", form);
      await queries.invalidateQueries();
      setOpen(false);
      navigate(`/engagements/${made.slug}`);
    } catch (error) {
      setProblem((error as Error).message);
    }
  };
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger asChild>{children}</Dialog.Trigger>
      <Sheet title={of ? "The engagement" : "A new engagement"} width={560}>
        <form
          className="mt-4 space-y-4"
          onSubmit={(event) => {
            event.preventDefault();
            save();
          }}
        >
          <TextField label="Customer or project" value={name} onChange={setName} />
          <TextAreaField
            label="What it is about, in a sentence or two"
            rows={3}
            value={summary}
            onChange={setSummary}
          />
          <SelectField
            label="Reports are printed on"
            value={paper}
            onChange={(value) => setPaper(value as Paper)}
            options={[
              ["A4", "A4"],
              ["Letter", "US Letter"],
            ]}
          />
          {problem && <Note>{problem}</Note>}
          <div className="flex flex-wrap gap-3">
            <Button act type="submit" disabled={!name.trim()}>
              {of ? "Save" : "Create engagement"}
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
