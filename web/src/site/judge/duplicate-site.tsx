// A new site with the same brief: its probes and its evidence stay where they are.
import { useQueryClient } from "@tanstack/react-query";
import { Popover } from "radix-ui";
import { useState } from "react";
import { useNavigate } from "react-router";
import { type Model, post } from "../../api/client";
import { Button, Note } from "../../ui/controls";
import { TextField } from "../../ui/fields";

export function DuplicateSite({ site }: { site: Model<"SitePage"> }) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [problem, setProblem] = useState<string | null>(null);
  const make = async () => {
    try {
      const made = await post("Made", `/api/sites/${site.slug}/duplicate`, { name });
      await queries.invalidateQueries();
      navigate(`/sites/${made.slug}/brief`);
    } catch (error) {
      setProblem((error as Error).message);
    }
  };
  return (
    <Popover.Root>
      <Popover.Trigger asChild>
        <Button>Duplicate …</Button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          sideOffset={6}
          aria-label="Duplicate the site"
          className="z-20 w-80 border border-ink bg-raised p-4"
        >
          <form
            onSubmit={(event) => {
              event.preventDefault();
              make();
            }}
          >
            <TextField
              label="Name of the new site"
              value={name}
              onChange={setName}
              hint="It gets this brief. Probes and evidence are not copied."
            />
            {problem && <Note>{problem}</Note>}
            <div className="mt-3">
              <Button type="submit" disabled={!name.trim()}>
                Create site
              </Button>
            </div>
          </form>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
