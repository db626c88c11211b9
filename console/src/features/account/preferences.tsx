import { useMutation } from "@tanstack/react-query";
import { api, changed, taken } from "../../api/client";
import { zone } from "../../ui/format";
import { Heading, Refused } from "../../ui/kit";
import { type Preferences, prefer, usePreferences } from "../../ui/preferences";

const TIMES: [Preferences["times"], string][] = [
  ["utc", "in UTC, as logs and the command line have them"],
  ["local", "in the time zone of this browser"],
];
const THEMES: [Preferences["theme"], string][] = [
  ["system", "as this system has it"],
  ["light", "light"],
  ["dark", "dark"],
];

/** How pages are for whoever is signed in, on whatever machine. */
export function PreferencesForm() {
  const preferences = usePreferences();
  const save = useMutation({
    mutationFn: (body: Preferences) => taken(api.PUT("/api/v1/session/preferences", { body })),
    onMutate: prefer,
    onError: () => prefer(preferences),
    onSettled: () => changed("/api/v1/session/preferences"),
  });
  return (
    <section aria-label="How pages are" className="mt-8 mb-10">
      <Heading>How pages are</Heading>
      <Radios
        legend="Times"
        options={TIMES}
        value={preferences.times}
        onChange={(times) => save.mutate({ ...preferences, times })}
      />
      <p className="text-faint text-[13px]">Now they are shown in {zone()}. Sentences of the service stay in UTC.</p>
      <Radios
        legend="Colours"
        options={THEMES}
        value={preferences.theme}
        onChange={(theme) => save.mutate({ ...preferences, theme })}
      />
      {save.isError && <Refused what="Not saved" error={save.error} />}
    </section>
  );
}

type RadiosProps<T extends string> = {
  legend: string;
  options: readonly (readonly [T, string])[];
  value: T;
  onChange: (value: T) => void;
};

function Radios<T extends string>({ legend, options, value, onChange }: RadiosProps<T>) {
  return (
    <fieldset className="mt-3">
      <legend className="font-semibold">{legend}</legend>
      {options.map(([each, words]) => (
        <label key={each} className="flex min-h-6 items-baseline gap-2">
          <input type="radio" name={legend} checked={each === value} onChange={() => onChange(each)} /> {words}
        </label>
      ))}
    </fieldset>
  );
}
