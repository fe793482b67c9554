// On the live bench of a demo: what is wrong with its path, chosen by whoever tries things out.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { get, put } from "../api/client";
import { SelectField } from "../ui/fields";

export function BenchMenu({ slug }: { slug: string }) {
  const queries = useQueryClient();
  const bench = useQuery({
    queryKey: ["bench"],
    queryFn: () => get("Bench", "/api/bench"),
    staleTime: Number.POSITIVE_INFINITY,
  });
  if (!bench.data || bench.data.site !== slug) return null;
  const chosen = bench.data.troubles.find((one) => one.key === bench.data.chosen);
  return (
    <div className="mt-4 flex flex-wrap items-end gap-4 border-l-4 border-soft bg-raised py-2 pr-4 pl-4">
      <SelectField
        label="Trouble on this bench’s path"
        value={bench.data.chosen}
        onChange={async (key) => queries.setQueryData(["bench"], await put("Bench", "/api/bench", { key }))}
        options={bench.data.troubles.map((one) => [one.key, one.title])}
      />
      <p role="status" className="max-w-xl pb-1.5 leading-snug">
        {chosen?.says}
      </p>
    </div>
  );
}
