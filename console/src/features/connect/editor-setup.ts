/** How editors write down where tools are, by the form of their file. */
export const FORMS = ["mcpServers", "servers"] as const;
export type Form = (typeof FORMS)[number];

/** The file of an editor that finds Outcrop's tools at an address, with somebody's token. */
export function editorSetup(form: Form, origin: string, token: string): string {
  const server = { type: "http", url: `${origin}/mcp`, headers: { Authorization: `Bearer ${token}` } };
  return JSON.stringify({ [form]: { outcrop: server } }, null, 2);
}

/** The tools that only read, each with something to try it with. */
export const TRIALS = [
  ["find", { text: "timeout" }],
  ["ask", { question: "count of occurrences by error over 24h order by count" }],
] as const;

/** What a tool's answer says: the text of the result, or of the mistake. */
export function said(answer: unknown): string {
  const { result, error } = answer as {
    result?: { content?: { text?: string }[] };
    error?: { message?: string };
  };
  return result?.content?.[0]?.text ?? error?.message ?? "It answered in a form that is not known here.";
}
