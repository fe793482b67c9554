// Where the site is and whom to ask.
import { Section } from "../../ui/controls";
import { TextField } from "../../ui/fields";
import { Rows } from "../../ui/rows";
import type { PartProps } from "./part";

export function People({ form, change }: PartProps) {
  return (
    <Section title="Address and contacts">
      <TextField label="Address" value={form.address ?? ""} onChange={(address) => change({ address })} />
      <div className="mt-5">
        <Rows
          rows={form.contacts ?? []}
          onChange={(contacts) => change({ contacts })}
          make={() => ({ role: "on site", name: "", email: "", phone: "" })}
          add="Add a contact"
          name={(row) => row.name || (row.role ?? "")}
        >
          {(row, set) => (
            <>
              <TextField label="Role" value={row.role ?? ""} onChange={(role) => set({ role })} />
              <TextField label="Name" value={row.name ?? ""} onChange={(name) => set({ name })} />
              <TextField label="Email" value={row.email ?? ""} onChange={(email) => set({ email })} />
              <TextField label="Telephone" value={row.phone ?? ""} onChange={(phone) => set({ phone })} />
            </>
          )}
        </Rows>
      </div>
    </Section>
  );
}
