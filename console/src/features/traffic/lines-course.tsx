import { useState } from "react";
import { AskedOverTime } from "../../parts/asked-over-time";
import { count } from "../../ui/format";
import { linesQuestion } from "./lines-question";
import { useScope } from "./scope";

type Props = { onWindow: (from: Date, to: Date) => void };

/** The lines of the page over time, by service, or by version where one service is chosen. */
export function LinesCourse({ onWindow }: Props) {
  const { search, query } = useScope();
  const [opened] = useState(Date.now);
  const question = linesQuestion(search, opened);
  if (question === undefined) return null;
  return (
    <AskedOverTime
      question={question}
      scope={query}
      label="log lines"
      what="The chart of these lines"
      addUp
      shown={(value) => count(value ?? 0)}
      onWindow={onWindow}
    />
  );
}
