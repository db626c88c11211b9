import { boxes } from "./bars";

type Props = {
  failed: readonly number[];
  requests: readonly number[];
  /** What it shows, in words: the picture itself is for the eye alone. */
  label: string;
};

const [WIDE, HIGH, LANE, GAP] = [150, 16, 9, 2];

/** Failures over time, and below them, in a lane of their own, the requests they are of. Each lane has its own measure. */
export function TwinStrip({ failed, requests, label }: Props) {
  const step = WIDE / Math.max(1, requests.length);
  const [mostFailed, mostRequests] = [Math.max(1, ...failed), Math.max(1, ...requests)];
  return (
    <svg
      viewBox={`0 0 ${WIDE} ${HIGH + GAP + LANE}`}
      preserveAspectRatio="none"
      className="h-[27px] w-full max-w-[240px] min-w-[150px]"
      role="img"
      aria-label={label}
    >
      <title>{label}</title>
      <line x1={0} x2={WIDE} y1={HIGH + 0.5} y2={HIGH + 0.5} stroke="var(--color-line)" />
      <path
        d={boxes([...failed], step, (n) => {
          // One failure is seen, however many the others are.
          const height = Math.max(2, (n / mostFailed) * HIGH);
          return { top: HIGH - height, height };
        })}
        fill="var(--color-brick)"
      />
      <path
        d={boxes([...requests], step, (n) => ({ top: HIGH + GAP, height: Math.max(1, (n / mostRequests) * LANE) }))}
        fill="var(--color-layer-3)"
      />
    </svg>
  );
}
