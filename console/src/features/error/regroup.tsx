import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { reading } from "../../api/client";
import { agoInWords, count } from "../../ui/format";
import { ChangeSteps, History } from "../../parts/grouping-change";
import { Input } from "../../ui/kit";

const WAYS = { join: "join it with others", by: "split it by an attribute", off: "take causes out of it" } as const;
type Way = keyof typeof WAYS;

/** Joins and splits one error, and says what was done to it. */
export function Regroup({ reference, service }: { reference: string; service: string }) {
  const [way, setWay] = useState<Way>();
  return (
    <div className="border-line mt-3 border-t pt-2">
      <div className="flex flex-wrap gap-x-4">
        <span className="font-semibold">Not right?</span>
        {(Object.keys(WAYS) as Way[]).map((name) => (
          <button
            key={name}
            type="button"
            aria-expanded={way === name}
            onClick={() => setWay(way === name ? undefined : name)}
            className="text-accent hover:underline aria-expanded:font-semibold"
          >
            {WAYS[name]}
          </button>
        ))}
        <Link to="/grouping" search={{ service }}>
          rules for {service}
        </Link>
      </div>
      {way === "join" && <Join reference={reference} />}
      {way === "by" && <SplitBy reference={reference} />}
      {way === "off" && <SplitOff reference={reference} />}
      <h3 className="mt-3 font-semibold">What was changed</h3>
      <History error={reference} />
    </div>
  );
}

function Join({ reference }: { reference: string }) {
  const [text, setText] = useState("");
  const others = text.split(/[\s,]+/).filter(Boolean);
  return (
    <div className="mt-2">
      <label>
        References that become part of {reference}
        <Input
          value={text}
          onChange={setText}
          placeholder="dasup-nivel gutih-lomor"
          className="mt-1 block w-full font-mono text-[13px]"
        />
      </label>
      <ChangeSteps
        isRule={false}
        change={others.length > 0 ? { kind: "join_errors", error: reference, with: others } : undefined}
      />
    </div>
  );
}

function SplitBy({ reference }: { reference: string }) {
  const [attribute, setAttribute] = useState("");
  return (
    <div className="mt-2">
      <label>
        Attribute of at most 50 values
        <Input
          value={attribute}
          onChange={(value) => setAttribute(value.trim())}
          placeholder="season"
          className="mt-1 block w-full font-mono text-[13px]"
        />
      </label>
      <ChangeSteps isRule change={attribute ? { kind: "split_by", error: reference, attribute } : undefined} />
    </div>
  );
}

function SplitOff({ reference }: { reference: string }) {
  const [chosen, setChosen] = useState<number[]>([]);
  const causes = useQuery(reading("/api/v1/errors/{ref}/causes", { params: { path: { ref: reference } } }));
  const items = causes.data?.items ?? [];
  if (causes.isSuccess && items.length < 2)
    return (
      <p className="text-faint mt-2">
        It has a single cause: nothing can be taken out. Split it by an attribute instead.
      </p>
    );
  return (
    <div className="mt-2">
      {items.map((cause) => (
        <label key={cause.id} className="border-line flex gap-x-3 border-b py-1">
          <input
            type="checkbox"
            checked={chosen.includes(cause.id)}
            onChange={(event) =>
              setChosen(event.target.checked ? [...chosen, cause.id] : chosen.filter((id) => id !== cause.id))
            }
          />
          <span className="text-faint font-mono">{cause.id}</span>
          <span className="w-16 text-right font-mono">{count(cause.count)}</span>
          <bdi className="min-w-0 flex-1 [overflow-wrap:anywhere]">{cause.message ?? "(none kept)"}</bdi>
          <span className="text-faint">last {agoInWords(cause.last_seen)}</span>
        </label>
      ))}
      <ChangeSteps
        isRule={false}
        change={chosen.length > 0 ? { kind: "split_off", error: reference, causes: chosen } : undefined}
        onMade={() => setChosen([])}
      />
    </div>
  );
}
