/** A sheet's document while it is being arranged: each change is a new one, so that it can be undone. */

import type { components } from "../api/generated/schema";

export type Sheet = components["schemas"]["Sheet"];
export type SheetDocument = components["schemas"]["SheetDocument"];
export type SheetPart = components["schemas"]["SheetPart"];
export type SheetWidth = components["schemas"]["SheetWidth"];

export const WIDTHS: readonly (readonly [SheetWidth, string])[] = [
  ["third", "a third"],
  ["half", "a half"],
  ["whole", "the whole width"],
];

/** As many parts as a sheet may have. */
export const MAX_PARTS = 40;

/** The document with a part so many places later, as far as there are places. */
export function moved(document: SheetDocument, at: number, by: number): SheetDocument {
  const to = Math.min(Math.max(at + by, 0), document.parts.length - 1);
  const parts = document.parts.filter((_, place) => place !== at);
  parts.splice(to, 0, ...document.parts.slice(at, at + 1));
  return { ...document, parts };
}

/** The document with a part in the place of another; behind all others where there is none. */
export function placed(document: SheetDocument, at: number, part: SheetPart): SheetDocument {
  const parts = [...document.parts];
  parts[Math.min(at, parts.length)] = part;
  return { ...document, parts };
}

export function without(document: SheetDocument, at: number): SheetDocument {
  return { ...document, parts: document.parts.filter((_, place) => place !== at) };
}

/** A document out of a file; says what is wrong with one that is none. */
export function read(text: string): SheetDocument {
  const found: unknown = JSON.parse(text);
  if (typeof found !== "object" || found === null || !Array.isArray((found as SheetDocument).parts))
    throw new Error("This is no sheet: a sheet is a JSON object with its parts in a list.");
  return found as SheetDocument;
}
