// In whose name reports are made: name, contact, colour and logo, with a draft beside them as it then looks.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { get, type Model, put } from "../api/client";
import { Button, Field, INPUT, Note } from "../ui/controls";
import { SelectField, TextField } from "../ui/fields";
import { Pending, Trail } from "../ui/screen";

type Brand = Model<"BrandView">;

export function BrandScreen({ id }: { id: string }) {
  const brand = useQuery({
    queryKey: ["brand", id],
    queryFn: () => get("BrandView", `/api/engagements/${id}/brand`),
  });
  if (!brand.data) return <Pending what="the brand" error={brand.error} />;
  return <Form brand={brand.data} slug={id} />;
}

function Form({ brand, slug }: { brand: Brand; slug: string }) {
  const queries = useQueryClient();
  const [name, setName] = useState(brand.name);
  const [contact, setContact] = useState(brand.contact);
  const [colour, setColour] = useState(brand.colour);
  const [address, setAddress] = useState(brand.address);
  const [locale, setLocale] = useState<Brand["locale"]>(brand.locale);
  const [problem, setProblem] = useState<string | null>(null);
  const [kept, setKept] = useState(0);
  const example = brand.locales.find(({ tag }) => tag === locale)?.example;
  /** ``logo``: a file as base64, "" for none, null for the one that is there. */
  const save = async (logo: string | null) => {
    try {
      const form: Model<"BrandForm"> = { name, contact, colour, logo, address, locale };
      queries.setQueryData(["brand", slug], await put("BrandView", `/api/engagements/${slug}/brand`, form));
      setProblem(null);
      setKept((times) => times + 1);
    } catch (error) {
      setProblem((error as Error).message);
    }
  };
  const submit = (event: FormEvent) => {
    event.preventDefault();
    save(null);
  };
  return (
    <>
      <Trail
        steps={[
          ["/", "Today"],
          [`/engagements/${slug}`, brand.engagement_name],
        ]}
        title="Brand"
      />
      <h1 className="mt-2 text-3xl tracking-tight">Brand of reports</h1>
      <p className="mt-1 max-w-3xl leading-snug text-soft">
        In whose name reports of this engagement are made. Reports that were issued stay as they are.
      </p>
      <div className="mt-6 grid gap-x-12 gap-y-8 lg:grid-cols-[320px_1fr]">
        <form onSubmit={submit} className="space-y-4">
          <TextField label="Name" value={name} onChange={setName} placeholder="Harrow Voice Consulting" />
          <TextField
            label="Contact"
            hint="A line at the end of each report."
            value={contact}
            onChange={setContact}
            placeholder="ines@harrow.example, +44 20 7946 0000"
          />
          <TextField
            label="Colour"
            hint="Of rules and of the name, as #1a2b3c; dark enough to be read on paper."
            value={colour}
            onChange={setColour}
          />
          <TextField
            label="Address of links"
            hint="Of your own name for this server, which its operator has to let in; empty for the server’s own. Links to shared reports and tests from a browser begin with it."
            value={address}
            onChange={setAddress}
            placeholder="https://voice.example"
          />
          <SelectField
            label="Dates and numbers"
            hint={`In reports, letters and tests from a browser: ${example}. The words around them are English.`}
            value={locale}
            onChange={(tag) => setLocale(tag as Brand["locale"])}
            options={brand.locales.map(({ tag, title }) => [tag, title])}
          />
          <Field label="Logo" hint="PNG, JPEG or plain SVG, 300 kB at most.">
            <input
              type="file"
              accept=".png,.jpg,.jpeg,.svg"
              className={INPUT}
              onChange={async (event) => {
                const file = event.target.files?.[0];
                if (file) await save(await base64(file));
                event.target.value = "";
              }}
            />
          </Field>
          {brand.logo && (
            <div className="flex items-center gap-4">
              <img src={brand.logo} alt="Logo" className="max-h-11 max-w-40 bg-white p-1" />
              <Button type="button" onClick={() => save("")}>
                Remove logo
              </Button>
            </div>
          )}
          {problem && <Note>{problem}</Note>}
          <Button act type="submit">
            Save brand
          </Button>
        </form>
        {brand.site && (
          <iframe
            key={kept}
            title="Draft report with this brand"
            src={`/api/sites/${brand.site}/report.html`}
            className="hair h-[70vh] w-full border bg-white"
          />
        )}
      </div>
    </>
  );
}

async function base64(file: File): Promise<string> {
  const bytes = new Uint8Array(await file.arrayBuffer());
  let text = "";
  for (const byte of bytes) text += String.fromCharCode(byte);
  return btoa(text);
}
