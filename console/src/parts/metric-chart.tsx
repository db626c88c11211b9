import type { components } from "../api/generated/schema";
import { OverTime } from "../ui/over-time";
import { ofMetric } from "../ui/units";

type Props = {
  course: components["schemas"]["MetricCourse"];
  onWindow: (from: Date, to: Date) => void;
};

/** Lines that can be told apart by their strokes. */
const LINES = 6;

/** A metric over time: layers where its lines add up, else lines. Where there are many, the greatest are drawn. */
export function MetricChart({ course, onWindow }: Props) {
  return (
    <>
      <OverTime
        label={`${course.name}, ${course.together}`}
        from={course.from}
        stepMs={course.step_ms}
        series={course.lines.slice(0, LINES).map(({ key, values }) => ({ name: key || "(not set)", values }))}
        addUp={course.together === "sum"}
        isSampled
        shown={ofMetric(course.name, course.unit)}
        onWindow={onWindow}
      />
      {course.all_lines > LINES && (
        <p className="text-faint mt-1 text-[13px]">
          Of {course.all_lines} lines the {LINES} with the greatest numbers are drawn.
        </p>
      )}
      {course.note && <p className="text-faint mt-1 text-[13px]">{course.note}</p>}
    </>
  );
}
