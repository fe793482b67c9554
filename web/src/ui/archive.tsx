// Putting something away and taking it out again. Nothing is lost either way, so nothing is asked.
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { post } from "../api/client";
import { Button, Note } from "./controls";

export function ArchiveButton({ path, archived }: { path: string; archived: boolean }) {
  const queries = useQueryClient();
  const [problem, setProblem] = useState<string | null>(null);
  const act = async () => {
    try {
      await post("Made", path, { archived: !archived });
      setProblem(null);
      await queries.invalidateQueries();
    } catch (error) {
      setProblem((error as Error).message);
    }
  };
  return (
    <>
      <Button onClick={act}>{archived ? "Restore" : "Archive"}</Button>
      {problem && <Note>{problem}</Note>}
    </>
  );
}
