// Putting this run beside another of its site.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { get, type Model } from "../api/client";
import { Button } from "../ui/controls";
import { SelectField } from "../ui/fields";
import { dateTime, marking, withUnit } from "../ui/format";

export function CompareWith({ run }: { run: Model<"RunPage"> }) {
  const navigate = useNavigate();
  const [other, setOther] = useState("");
  const list = useQuery({
    queryKey: ["runs", run.site_slug],
    queryFn: () => get("RunList", `/api/sites/${run.site_slug}/runs?limit=100`),
  });
  const others = list.data?.runs.filter((one) => one.state === "done" && one.id !== run.id) ?? [];
  if (others.length === 0) return null;
  const compare = () => {
    // The earlier one is the first, so that a change reads forwards in time.
    const [first, second] = Number(other) < run.id ? [other, run.id] : [run.id, other];
    navigate(`/compare?first=${first}&second=${second}`);
  };
  const words = (one: (typeof others)[number]) =>
    `${dateTime(one.created_us, run.time_zone)}: ${one.calls} × ${one.codec_title}, ${withUnit(one.ptime_ms, "ms")}, ${marking(one.dscp)}`;
  return (
    <div className="flex flex-wrap w-[30rem] items-end gap-3">
      <span className="grow">
        <SelectField
          label="Compare with"
          value={other}
          options={[
            ["", "another run of this site …"],
            ...others.map((one) => [String(one.id), words(one)] as const),
          ]}
          onChange={setOther}
        />
      </span>
      <Button disabled={!other} onClick={compare}>
        Compare
      </Button>
    </div>
  );
}
