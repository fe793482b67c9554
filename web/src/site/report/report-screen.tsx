// The page the customer sees, exactly, and the ways it leaves the house.
import { useQuery } from "@tanstack/react-query";
import { useRef } from "react";
import { get } from "../../api/client";
import { Button, FileLink } from "../../ui/controls";
import { DocumentPdf } from "../../ui/document-pdf";
import { Pending, Trail } from "../../ui/screen";

export function ReportScreen({ id }: { id: string }) {
  const frame = useRef<HTMLIFrameElement>(null);
  const site = useQuery({
    queryKey: ["site", id],
    queryFn: () => get("SitePage", `/api/sites/${id}`),
    refetchInterval: ({ state }) => (state.data?.verdict.behind ? 1000 : false),
  });
  if (!site.data) return <Pending what="the report" error={site.error} />;
  return (
    <>
      <Trail
        steps={[
          ["/", "Today"],
          [`/engagements/${site.data.engagement_slug}`, site.data.engagement_name],
          [`/sites/${id}`, site.data.name],
        ]}
        title={`Report, ${site.data.name}`}
      />
      <div className="mt-2 mb-4 flex flex-wrap items-end justify-between gap-8">
        <h1 className="text-3xl tracking-tight">Report</h1>
        <div className="flex flex-wrap gap-3">
          <FileLink href={`/api/sites/${id}/report.json`}>Figures, JSON</FileLink>
          <Button onClick={() => frame.current?.contentWindow?.print()}>Print</Button>
          <DocumentPdf path={`/api/sites/${id}/report/pdf`} words="PDF, A4" act />
        </div>
      </div>
      <iframe
        key={site.data.verdict.behind ? "behind" : "current"}
        ref={frame}
        title={`Readiness report of ${site.data.name}`}
        src={`/api/sites/${id}/report.html`}
        className="h-[calc(100vh-190px)] min-h-[560px] w-full border border-ink bg-white"
      />
    </>
  );
}
