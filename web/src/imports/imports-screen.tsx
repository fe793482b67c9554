// Evidence made elsewhere: captures and echo logs that somebody sent, brought to a site.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { get, upload } from "../api/client";
import { Note, Section } from "../shared/controls";
import { SelectField } from "../shared/fields";
import { dateTime } from "../shared/format";
import { Pending, Trail } from "../shared/screen";

export function ImportsScreen({ id }: { id: string }) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [codec, setCodec] = useState("");
  const [busy, setBusy] = useState(false);
  const [problem, setProblem] = useState<string | null>(null);
  const list = useQuery({
    queryKey: ["imports", id],
    queryFn: () => get("ImportList", `/api/sites/${id}/imports`),
  });
  const codecs = useQuery({
    queryKey: ["codecs"],
    queryFn: () => get("CodecList", "/api/codecs"),
    staleTime: Number.POSITIVE_INFINITY,
  });
  if (!list.data) return <Pending what="what came from elsewhere" error={list.error} />;
  const page = list.data;
  const bring = async (file: File | undefined) => {
    if (!file) return;
    setBusy(true);
    setProblem(null);
    try {
      const query = new URLSearchParams({ name: file.name, ...(codec ? { codec } : {}) });
      const made = await upload("ImportMade", `/api/sites/${id}/imports?${query}`, file);
      await queries.invalidateQueries({ queryKey: ["imports", id] });
      navigate(`/imports/${made.id}`);
    } catch (error) {
      setProblem((error as Error).message);
    }
    setBusy(false);
  };
  return (
    <>
      <Trail
        steps={[
          ["/", "Engagements"],
          [`/engagements/${page.engagement_slug}`, page.engagement_name],
          [`/sites/${id}`, page.site_name],
        ]}
        title="Imported files"
      />
      <h1 className="mt-2 text-3xl tracking-tight">Imported files</h1>
      <p className="mt-1 max-w-3xl text-soft">
        A packet capture (pcap or pcapng) with calls in it, or what ping printed on Linux, macOS or Windows.
        It is shown beside the site’s own evidence and does not count into its verdict.
      </p>
      <div className="mt-5 flex items-end gap-6">
        <label className="cursor-pointer border border-act bg-act px-4 py-1.5 font-semibold text-on-act focus-within:outline-2 focus-within:outline-ink">
          {busy ? "Reading the file …" : "Upload file"}
          <input
            type="file"
            className="sr-only"
            disabled={busy}
            onChange={(event) => {
              bring(event.target.files?.[0]);
              event.target.value = "";
            }}
          />
        </label>
        <div className="w-80">
          <SelectField
            label="Codec of streams that do not name one"
            value={codec}
            options={[
              ["", "not known"],
              ...(codecs.data?.codecs ?? []).map((c) => [c.name, c.title] as const),
            ]}
            onChange={setCodec}
          />
        </div>
      </div>
      {problem && (
        <div className="mt-4">
          <Note>{problem}</Note>
        </div>
      )}
      <Section title="Brought so far">
        {page.imports.length === 0 && <p>Nothing yet.</p>}
        <ul>
          {page.imports.map((one) => (
            <li key={one.id} className="hair grid grid-cols-[1fr_120px_1fr_180px] gap-6 border-b py-2">
              <Link to={`/imports/${one.id}`} className="font-semibold underline underline-offset-3">
                {one.name}
              </Link>
              <span>{one.kind}</span>
              <span>{one.says}</span>
              <span className="text-soft">{dateTime(one.created_us, page.time_zone)}</span>
            </li>
          ))}
        </ul>
      </Section>
    </>
  );
}
