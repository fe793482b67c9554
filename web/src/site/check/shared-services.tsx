// Services that every site of an engagement asks: a line each, from a file, to a file, and the usual ports of a host.
import { type FormEvent, useRef, useState } from "react";
import { type Model, post } from "../../api/client";
import { Button, Field, INPUT, Note, Section } from "../../ui/controls";
import { servicesOf, textOf } from "./service-lines";

type Page = Model<"CheckPage">;

export function SharedServices({
  slug,
  page,
  onSave,
}: {
  slug: string;
  page: Page;
  onSave: (services: Model<"ServicesForm">) => Promise<boolean>;
}) {
  const [text, setText] = useState(textOf(page.services));
  const [said, setSaid] = useState<string | null>(null);
  const [problem, setProblem] = useState<string | null>(null);
  const [host, setHost] = useState("");
  const file = useRef<HTMLInputElement>(null);
  const base = `/api/sites/${slug}/checks/services`;
  const say = (words: string | null, wrong: string | null = null) => {
    setSaid(words);
    setProblem(wrong);
  };
  const save = async (event: FormEvent) => {
    event.preventDefault();
    const services = servicesOf(text);
    if (typeof services === "string") return say(null, services);
    if (await onSave({ services })) say(`Saved; every site of ${page.engagement_name} asks them.`);
  };
  const readFile = async (given: File | undefined) => {
    if (!given) return;
    try {
      const found = await post("ServicesForm", `${base}/read`, { text: await given.text() });
      setText(textOf(found.services));
      say(`${found.services.length} read from ${given.name}. Save to keep them.`);
    } catch (error) {
      say(null, `${given.name}: ${(error as Error).message}`);
    }
    if (file.current) file.current.value = "";
  };
  const addUsual = () => {
    const where = host.trim();
    if (!where || /\s/.test(where))
      return say(null, "Enter the host first: a name or an address, without spaces.");
    const usual = page.usual_ports.map((one) => ({ ...one, host: where, sha256: "", path: "/" }));
    setText([text.trim(), textOf(usual)].filter(Boolean).join("\n"));
    say(`${usual.length} added. Remove what ${where} does not offer, then save.`);
  };
  return (
    <Section title={`Services, ${page.engagement_name}`}>
      <form onSubmit={save} className="grid gap-3">
        <Field
          label="All sites ask, a service a line"
          hint="name host port protocol, such as Meetings meet.example 443 https"
        >
          <textarea
            rows={5}
            className={`${INPUT} font-mono text-[13px]`}
            value={text}
            onChange={(event) => setText(event.target.value)}
          />
        </Field>
        {problem && <Note>{problem}</Note>}
        <div className="flex flex-wrap items-center gap-3">
          <Button type="submit">Save services</Button>
          <Button onClick={() => file.current?.click()}>Upload file …</Button>
          <input
            ref={file}
            type="file"
            accept=".toml,.csv,text/csv"
            aria-label="A list of services, TOML or CSV"
            className="sr-only"
            tabIndex={-1}
            onChange={(event) => readFile(event.target.files?.[0])}
          />
        </div>
        <p role="status" className="text-sm empty:hidden">
          {said}
        </p>
        {page.services.length > 0 && (
          <p className="text-sm">
            Download as{" "}
            <a className="underline underline-offset-3" href={`${base}.toml`} download>
              TOML
            </a>{" "}
            or{" "}
            <a className="underline underline-offset-3" href={`${base}.csv`} download>
              CSV
            </a>
          </p>
        )}
        <details>
          <summary className="cursor-pointer text-sm text-soft">Usual ports of a calling service</summary>
          <div className="mt-2 grid gap-2">
            <Field label="Host">
              <input className={INPUT} value={host} onChange={(event) => setHost(event.target.value)} />
            </Field>
            <p className="text-sm text-soft">
              {page.usual_ports.map((one) => `${one.name} ${one.port}`).join("; ")}.
            </p>
            <div>
              <Button onClick={addUsual}>Add them</Button>
            </div>
          </div>
        </details>
      </form>
    </Section>
  );
}
