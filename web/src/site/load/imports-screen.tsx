// Imported files of a site: captures and logs of ping.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { get, upload } from "../../api/client";
import { EchoPath } from "../../charts/echo-path";
import { useAddress } from "../../ui/address";
import { Note, Section } from "../../ui/controls";
import { SelectField } from "../../ui/fields";
import { dateTime } from "../../ui/format";
import { Pager } from "../../ui/pager";
import { Pending, Trail } from "../../ui/screen";
import { ROLES, roleWords } from "./roles";

const PAGE = 25;

export function ImportsScreen({ id }: { id: string }) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [codec, setCodec] = useState("");
  const [role, setRole] = useState("");
  const [search, set] = useAddress();
  const at = Math.max(0, Number(search.get("page") ?? 0) || 0);
  const [busy, setBusy] = useState<string | null>(null);
  const [problems, setProblems] = useState<string[]>([]);
  const list = useQuery({
    queryKey: ["imports", id],
    queryFn: () => get("ImportList", `/api/sites/${id}/imports`),
    refetchInterval: (query) =>
      query.state.data?.imports.some((one) => one.state === "reading") ? 1000 : false,
  });
  const codecs = useQuery({
    queryKey: ["codecs"],
    queryFn: () => get("CodecList", "/api/codecs"),
    staleTime: Number.POSITIVE_INFINITY,
  });
  if (!list.data) return <Pending what="imported files" error={list.error} />;
  const page = list.data;
  const bring = async (files: File[]) => {
    setProblems([]);
    let last: number | null = null;
    const failed: string[] = [];
    for (const file of files) {
      setBusy(file.name);
      try {
        const query = new URLSearchParams({
          name: file.name,
          ...(codec ? { codec } : {}),
          ...(role ? { role } : {}),
        });
        last = (await upload("ImportMade", `/api/sites/${id}/imports?${query}`, file)).id;
      } catch (error) {
        failed.push(`${file.name}: ${(error as Error).message}`);
      }
    }
    setBusy(null);
    setProblems(failed);
    await queries.invalidateQueries({ queryKey: ["imports", id] });
    if (files.length === 1 && last !== null) navigate(`/imports/${last}`);
  };
  return (
    <>
      <Trail
        steps={[
          ["/", "Today"],
          [`/engagements/${page.engagement_slug}`, page.engagement_name],
          [`/sites/${id}`, page.site_name],
        ]}
        title="Imported files"
      />
      <h1 className="mt-2 text-3xl tracking-tight">Imported files</h1>
      <p className="mt-1 max-w-3xl text-soft">
        Packet captures (pcap or pcapng) with calls in them, or what ping printed on Linux, BSD, macOS or
        Windows. Nothing in them counts towards the site’s verdict.
      </p>
      <div className="mt-5 flex flex-wrap items-end gap-6">
        <label className="cursor-pointer border border-act bg-act px-4 py-1.5 font-semibold text-on-act focus-within:outline-2 focus-within:outline-ink">
          {busy ? `Reading ${busy} …` : "Upload files"}
          <input
            type="file"
            multiple
            className="sr-only"
            disabled={busy !== null}
            onChange={(event) => {
              bring([...(event.target.files ?? [])]);
              event.target.value = "";
            }}
          />
        </label>
        <div className="w-72">
          <SelectField
            label="Codec, where a capture names none"
            value={codec}
            options={[
              ["", "not known"],
              ...(codecs.data?.codecs ?? []).map((c) => [c.name, c.title] as const),
            ]}
            onChange={setCodec}
          />
        </div>
        <div className="w-56">
          <SelectField
            label="Ping to"
            value={role}
            options={[["", "not specified"], ...ROLES]}
            onChange={setRole}
          />
        </div>
      </div>
      {problems.map((problem) => (
        <div key={problem} className="mt-4">
          <Note>{problem}</Note>
        </div>
      ))}
      {page.path && (
        <Section title="The path, from logs of ping" aside="the newest log of each place">
          <EchoPath path={page.path} />
        </Section>
      )}
      <Section title="Files">
        {page.imports.length === 0 && (
          <p>
            None yet. Logs of ping to the gateway, the provider’s edge and the far end, taken at the same
            time, show together which leg loses packets.
          </p>
        )}
        <ul>
          {page.imports.slice(at * PAGE, (at + 1) * PAGE).map((one) => (
            <li key={one.id} className="hair grid gap-x-6 border-b py-2 md:grid-cols-[1fr_150px_1.2fr_170px]">
              <Link
                to={`/imports/${one.id}`}
                className="font-semibold break-all underline underline-offset-3"
              >
                {one.name}
              </Link>
              <span>
                {one.kind}
                {one.roles.length > 0 && `, ${one.roles.map(roleWords).join(", ")}`}
              </span>
              <span>
                {one.says}
                {one.shown && <span className="block text-sm text-soft">shown beside the day sheet</span>}
              </span>
              <span className="text-soft">{dateTime(one.created_us, page.time_zone)}</span>
            </li>
          ))}
        </ul>
        <Pager
          page={at}
          size={PAGE}
          total={page.imports.length}
          onPage={(i) => set("page", i ? String(i) : "")}
        />
      </Section>
    </>
  );
}
