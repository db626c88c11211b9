import { useQuery } from "@tanstack/react-query";
import { type Ref, useState } from "react";
import { reading } from "../api/client";
import { CompletedInput, Mistaken } from "../ui/completed";

type Props = {
  /** The question that is answered. */
  value: string | undefined;
  onAsk: (question: string) => void;
  field: Ref<HTMLInputElement>;
};

/** The box for a question: offers what may follow, says what is wrong, asks on Enter. */
export function QuestionBox({ value, onAsk, field }: Props) {
  const [text, setText] = useState(value ?? "");
  const [asked, setAsked] = useState(value);
  const [place, setPlace] = useState<number | null>(null);
  if (asked !== value) {
    // It was changed from elsewhere: by a click that narrows, by going back.
    setAsked(value);
    setText(value ?? "");
  }
  const completion = useQuery({
    ...reading("/api/v1/ask/complete", { params: { query: { text, at: place ?? text.length } } }),
    enabled: place !== null || (text !== "" && text !== value),
    staleTime: 10_000,
    placeholderData: (before) => before,
  });
  const isNew = text !== (value ?? "");
  const offers =
    place !== null && isNew && completion.data
      ? completion.data.offers.filter((offer) => offer !== text.slice(completion.data.from, place))
      : [];
  const mistake = isNew ? completion.data?.mistake : null;
  const change = (next: string, caret: number | null) => {
    setText(next);
    setPlace(caret ?? next.length);
  };
  const put = (offer: string) => {
    const from = completion.data?.from ?? text.length;
    const after = text.slice(place ?? text.length).trimStart();
    // A comma and a list stand at what is before them.
    const before = offer === "," ? text.slice(0, from).trimEnd() : text.slice(0, from);
    change(`${before}${offer} ${after}`, before.length + offer.length + 1);
  };
  return (
    <div className="relative my-3">
      <CompletedInput
        field={field}
        label="Question"
        placeholder="count, users of occurrences by type where service = fares over 7d"
        text={text}
        offers={offers}
        onText={change}
        onPut={put}
        onEnter={() => {
          if (text.trim() === "") return;
          onAsk(text.trim());
          setPlace(null);
        }}
        onLeave={() => setPlace(null)}
        leavesByEscape={false}
        isWrong={Boolean(mistake)}
      />
      {isNew && text.trim() !== "" && (
        <p className="text-faint mt-1 text-[13px]" role="status">
          {mistake && offers.length === 0 ? <Mistaken text={text} mistake={mistake} /> : "Enter asks this."}
        </p>
      )}
    </div>
  );
}
