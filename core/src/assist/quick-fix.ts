import type { Diagnostic } from '../model/diagnostic.js';
import type { Range } from '../sql/positions.js';
import { plainIdent } from '../sql/quote.js';
import { nameOf, tokenize } from '../sql/tokens.js';

/** A stretch of a file's text, and what to put in its place. */
export interface QuickFix extends Range {
  readonly insert: string;
}

/** The wrong name of a diagnostic and the one that was probably meant. */
function namesOf(d: Diagnostic): readonly [string, string] | undefined {
  const wrong = 'name' in d ? d.name : undefined;
  const meant = 'nearest' in d ? d.nearest : undefined;
  return wrong === undefined || meant === undefined ? undefined : [wrong, meant];
}

/** Puts the name that was probably meant where a wrong one is written; undefined where nothing is near, or the text has changed. */
export function quickFix(text: string, diagnostic: Diagnostic): QuickFix | undefined {
  const names = namesOf(diagnostic);
  if (!names) return undefined;
  const [wrong, meant] = names;
  const { start, end } = diagnostic.range;
  const found = tokenize(text, start, end).findLast(
    (t) => (t.kind === 'word' || t.kind === 'quoted') && nameOf(t) === wrong,
  );
  return found && { start: found.start, end: found.end, insert: plainIdent(meant) };
}
