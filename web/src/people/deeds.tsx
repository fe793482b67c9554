// The trail: who changed what, newest first.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { get } from "../api/client";
import { Note } from "../ui/controls";
import { dateTime } from "../ui/format";
import { Pager } from "../ui/pager";
import { Wide } from "../ui/wide";

const PAGE = 25;

/** `asked`: when the page around it was, which is asked again after each change. */
export function Deeds({ id, asked }: { id: string; asked: number }) {
  const [at, setAt] = useState(0);
  const path = `/api/engagements/${id}/trail?limit=${PAGE}&offset=${at * PAGE}`;
  const { data, error } = useQuery({
    queryKey: ["trail", path, asked],
    queryFn: () => get("TrailPage", path),
    placeholderData: keepPreviousData,
  });
  if (error) return <Note>{error.message}</Note>;
  if (!data) return null;
  if (data.total === 0) return <p>Nothing was changed since the trail is kept.</p>;
  const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;
  return (
    <>
      <Wide label="Who did what">
        <table className="w-full [&_td]:pr-6 [&_th]:pr-6 [&_th]:text-left">
          <thead>
            <tr className="text-sm text-soft [&>th]:pb-1 [&>th]:font-normal">
              <th>When</th>
              <th>Who</th>
              <th>Site</th>
              <th>What</th>
            </tr>
          </thead>
          <tbody>
            {data.deeds.map((one) => (
              <tr key={`${one.at_us}${one.says}`} className="hair border-t [&>*]:py-1.5">
                <td className="whitespace-nowrap">{dateTime(one.at_us, zone)}</td>
                <td>{one.name}</td>
                <td>{one.site}</td>
                <td>{one.says}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Wide>
      <Pager page={at} size={PAGE} total={data.total} onPage={setAt} />
    </>
  );
}
