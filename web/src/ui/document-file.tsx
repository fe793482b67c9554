// A document, on paper, as a table or as a capture: asked for, made by the clerk in a few seconds, and saved by the browser as soon as it is ready.
import { useMutation, useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { get, type Model, post } from "../api/client";
import { Button, Note } from "./controls";

type Document = Model<"DocumentView">;

const LOOK_MS = 500;

interface Props {
  /** Where it is asked for, and by what. */
  path: string;
  body?: object;
  words: string;
  format?: "PDF" | "CSV" | "pcap";
}

export function DocumentFile({ path, body = {}, words, format = "PDF" }: Props) {
  const [asked, setAsked] = useState<Document | null>(null);
  const saved = useRef<number | null>(null);
  const ask = useMutation({
    mutationFn: () => post("DocumentView", path, body),
    onMutate: () => {
      saved.current = null;
    },
    onSuccess: setAsked,
  });
  const latest = useQuery({
    queryKey: ["document", asked?.id],
    queryFn: () => get("DocumentView", `/api/documents/${asked?.id}`),
    enabled: asked !== null && asked.state !== "ready" && asked.state !== "failed",
    refetchInterval: ({ state }) =>
      state.data?.state === "ready" || state.data?.state === "failed" ? false : LOOK_MS,
  });
  const document = latest.data ?? asked;
  useEffect(() => {
    if (document?.state === "ready" && saved.current !== document.id) {
      saved.current = document.id;
      window.location.assign(`/api/documents/${document.id}/file`);
    }
  }, [document]);
  const underWay = document?.state === "waiting" || document?.state === "being made";
  const problem =
    ask.error?.message ?? latest.error?.message ?? (document?.state === "failed" ? document.words : null);
  return (
    <span className="inline-flex flex-wrap items-center gap-3">
      <Button disabled={ask.isPending || underWay} onClick={() => ask.mutate()}>
        {underWay || ask.isPending ? `${format} is being made …` : words}
      </Button>
      <span role="status" className={document?.held_up ? "max-w-72 text-sm" : "sr-only"}>
        {document?.state === "ready"
          ? `The ${format} is ready; the browser saves it.`
          : underWay && document.words}
      </span>
      {problem && <Note>{problem}</Note>}
    </span>
  );
}
