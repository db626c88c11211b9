/** What names of metrics begin with that hosts, runtimes and pools send, after OpenTelemetry's conventions. */
const LOAD =
  /^(process|system|container|k8s|jvm|go|nodejs|v8js|cpython|dotnet|aspnetcore|db\.client|messaging|queue|http\.server\.active)[._]/;
/** What says little over time: how long something runs, and what it may take at most. */
const LITTLE = /uptime|limit$|start_time/;
/** What people look at first. */
const FIRST = [/memory|heap/, /cpu/, /gc|pause/, /queue|pool|connection|active|thread/, /file_descriptor|disk|network/];

/** The metrics of load among names: one of each kind first, those that people look at first before others. */
export function loadOf(names: readonly string[]): string[] {
  const load = names.filter((name) => LOAD.test(name) && !LITTLE.test(name)).sort();
  const kind = (name: string) => {
    const at = FIRST.findIndex((each) => each.test(name));
    return at < 0 ? FIRST.length : at;
  };
  const seen = new Map<number, number>();
  const places = load.map((name) => {
    const of = kind(name);
    const turn = seen.get(of) ?? 0;
    seen.set(of, turn + 1);
    return { name, turn, of };
  });
  return places.sort((one, other) => one.turn - other.turn || one.of - other.of).map(({ name }) => name);
}
