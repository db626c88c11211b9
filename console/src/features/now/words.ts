/** What is told, in a word with its colour. */
export const WORDS: Record<string, { word: string; colour: string }> = {
  failing: { word: "fails", colour: "text-brick" },
  slow: { word: "slow", colour: "text-ochre" },
  error: { word: "error up", colour: "text-brick" },
};

/** Answers of deploys, with their colours. */
export const OUTCOMES: Record<string, string> = {
  flagged: "text-brick font-semibold",
  "too early": "text-ochre",
  clear: "text-moss",
};
