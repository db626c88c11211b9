export const BUTTON = "rounded-sm border border-line bg-paper px-2.5 py-0.5 hover:bg-wash disabled:opacity-60";
export const INPUT = "mt-1 block w-full rounded-sm border border-line bg-sheet px-2 py-1 font-mono text-[13px]";

/** Why something was not done. */
export function Refused({ error }: { error: Error }) {
  return (
    <p role="alert" className="border-brick bg-sheet mt-2 border-l-4 px-3 py-2">
      {error.message}
    </p>
  );
}
