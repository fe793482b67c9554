// Two issued reports side by side: what changed, whether it is more than chance, and what speaks against comparing them.
import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { get, type Model } from "../../api/client";
import { Note, Section } from "../../ui/controls";
import { DASH } from "../../ui/format";
import { Pending, Trail } from "../../ui/screen";
import { scoreWords, VerdictMark } from "../../ui/verdict";
import { Wide } from "../../ui/wide";

type Side = Model<"ComparedSide">;

export function CompareReportsScreen() {
  const [search] = useSearchParams();
  const path = `/api/issued/compare?first=${search.get("first") ?? ""}&second=${search.get("second") ?? ""}`;
  const page = useQuery({ queryKey: ["reports", path], queryFn: () => get("ComparedView", path) });
  if (!page.data) return <Pending what="the two reports" error={page.error} />;
  const { first, second, says, states, causes, cautions } = page.data;
  return (
    <>
      <Trail steps={[["/", "Today"]]} title="Two reports" />
      <h1 className="mt-2 text-3xl tracking-tight">
        {first.number} and {second.number}
      </h1>
      <div className="mt-5 grid max-w-4xl gap-x-12 gap-y-5 sm:grid-cols-2">
        <OneSide side={first} />
        <OneSide side={second} />
      </div>
      <p className="mt-6 max-w-4xl text-lg leading-snug">{says}</p>
      {cautions.map((one) => (
        <div key={one} className="mt-3 max-w-4xl">
          <Note>{one}</Note>
        </div>
      ))}
      <Section title="Causes">
        {causes.length === 0 && <p>Neither report names a cause.</p>}
        <ul className="max-w-4xl">
          {causes.map((one) => (
            <li key={`${one.fate}${one.title}`} className="hair grid grid-cols-[110px_1fr] border-t py-1.5">
              <span className={one.fate === "still there" ? "text-soft" : "font-semibold"}>{one.fate}</span>
              <span>{one.title}</span>
            </li>
          ))}
        </ul>
      </Section>
      <Section title="Requirements" aside="those that changed first">
        <Wide label="Requirements">
          <table className="w-full max-w-4xl [&_td]:pr-6 [&_th]:pr-6 [&_th]:text-left">
            <thead>
              <tr className="text-sm text-soft [&>th]:pb-1 [&>th]:font-normal">
                <th>Requirement</th>
                <th>{first.number}</th>
                <th>{second.number}</th>
              </tr>
            </thead>
            <tbody>
              {states.map((one) => (
                <tr
                  key={one.title}
                  className={`hair border-t [&>*]:py-1.5 ${one.first === one.second ? "text-soft" : ""}`}
                >
                  <th className="font-normal">{one.title}</th>
                  <td>{stateWords(one.first)}</td>
                  <td className={one.first === one.second ? "" : "font-semibold"}>
                    {stateWords(one.second)}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </Wide>
      </Section>
    </>
  );
}

/** As the report says it. */
const stateWords = (state: string) => (state === "shown not" ? "not met" : state || DASH);

function OneSide({ side }: { side: Side }) {
  return (
    <div className="rule border-t pt-2">
      <p className="text-sm text-soft">
        {side.site}, {side.made}
      </p>
      <p className="mt-2 flex items-center gap-3">
        <VerdictMark word={side.word as Model<"VerdictView">["word"]} provisional={side.provisional} />
        <span className="font-semibold">
          {side.word}
          {side.provisional && ", provisional"}
        </span>
        <span className="text-sm text-soft">{scoreWords(side)} of 100</span>
      </p>
      <p className="mt-1.5 text-sm">
        {side.good} of {side.calls} calls in business hours acceptable; {side.sustained ?? "no number of"}{" "}
        concurrent calls shown.
      </p>
    </div>
  );
}
