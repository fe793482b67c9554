// A call or a video stream calculated as it was asked for. Of many packets the clerk does it, and what was shown before
// stays until then.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useRef } from "react";
import { get, type Model } from "../api/client";
import { FileLink, Note } from "../ui/controls";
import { DocumentFile } from "../ui/document-file";
import { count } from "../ui/format";

type Name = "CallPage" | "VideoPage";

const LOOK_MS = 300;
const OF_BEFORE = "The figures below are still for the previous settings.";

/** `page` is what was asked for last; `shown` what there is to show of it, which may be of the settings before. */
export function useJudged<N extends Name>(name: N, id: string, path: string) {
  const query = useQuery({
    queryKey: [name, id, path],
    queryFn: () => get(name, path),
    placeholderData: keepPreviousData,
    refetchInterval: ({ state }) => {
      const awaited = (state.data as Model<Name> | undefined)?.awaited;
      return awaited && !awaited.given_up ? LOOK_MS : false;
    },
  });
  const before = useRef<Model<N> | null>(null);
  const page = query.data as Model<N> | undefined;
  if (page && !page.awaited) before.current = page;
  const shown = page?.awaited && before.current?.id !== page.id ? null : before.current;
  return { page, shown, error: query.error, isOfBefore: query.isPlaceholderData };
}

/** Of many packets, how far it is; the line stays, so that what is below does not move. */
export function Calculating({ page, shown }: { page: Model<Name>; shown: Model<Name> | null }) {
  const { awaited } = page;
  if (!page.long) return null;
  if (awaited && (awaited.given_up || awaited.held_up)) {
    return (
      <div className="mt-4">
        <Note>
          {awaited.words} {shown && OF_BEFORE}
        </Note>
      </div>
    );
  }
  return (
    <p role="status" className="mt-4">
      {awaited
        ? `Calculating from ${count(awaited.packets)} packets … ${shown ? OF_BEFORE : "This takes a few seconds."}`
        : `Calculated from ${count((page.up?.figures.sent ?? 0) + (page.down?.figures.sent ?? 0))} packets.`}
    </p>
  );
}

/** The packets of one direction: saved at once, or asked for where they are many. */
export function Packets(props: { of: "calls" | "videos"; page: Model<Name>; way: "up" | "down" }) {
  const path = `/api/${props.of}/${props.page.id}`;
  const words = `Packets ${props.way}, CSV`;
  if (!props.page.long) return <FileLink href={`${path}/${props.way}.csv`}>{words}</FileLink>;
  return (
    <DocumentFile
      key={path}
      path={`${path}/packets`}
      body={{ direction: props.way }}
      words={words}
      format="CSV"
    />
  );
}
