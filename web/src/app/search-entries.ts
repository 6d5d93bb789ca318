import { GROUPS, type Entry, type EntryGroup } from './entry';

const MOST = 40;
/** Of each place, where several have something: the others shall be seen, too. */
const MOST_A_PLACE = 8;

/**
 * Entries in which every word occurs: exact names first, then names that begin with the text, names of which a word
 * does, and the others; what was found in texts (`found`) follows by its own order.
 */
export function search(
  entries: readonly Entry[],
  text: string,
  { group, found = [] }: { readonly group?: EntryGroup | undefined; readonly found?: readonly Entry[] } = {},
): Entry[] {
  const within = group === undefined ? entries : entries.filter((e) => e.group === group);
  if (text === '')
    return (group === undefined ? entries.filter((e) => e.group === 'Tables' || e.group === 'Commands') : within).slice(
      0,
      MOST,
    );
  const words = text.split(/\s+/);
  const ranked = within.flatMap((e) => {
    const label = e.label.toLowerCase();
    return words.every((w) => label.includes(w)) ? [{ e, rank: rankOf(label, text, words[0]!) }] : [];
  });
  const named = ranked.sort((a, b) => a.rank - b.rank).map((r) => r.e);
  const written = group === undefined ? found : found.filter((e) => e.group === group);
  const all = [...named, ...written];
  const groups = new Set(all.map((e) => e.group));
  const taken = new Map<EntryGroup, number>();
  const shown = all.filter((e) => {
    const n = (taken.get(e.group) ?? 0) + 1;
    taken.set(e.group, n);
    return n <= (groups.size > 1 ? MOST_A_PLACE : MOST);
  });
  return shown.sort((a, b) => GROUPS.indexOf(a.group) - GROUPS.indexOf(b.group));
}

function rankOf(label: string, text: string, first: string): number {
  const name = label.split('.').at(-1)!;
  const length = label.length / 1000;
  if (name === text || label === text) return length;
  if (name.startsWith(first) || label.startsWith(text)) return 1 + length;
  return (name.split(/[^a-z0-9]+/).some((w) => w.startsWith(first)) ? 2 : 3) + length;
}
