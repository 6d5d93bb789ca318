import type { Entry } from './use-entries';
const MOST = 40;

/** Every word has to occur; names that begin with the text come first. */
export function search(entries: readonly Entry[], text: string): Entry[] {
  if (text === '') return entries.filter((e) => e.group === 'Tables' || e.group === 'Commands').slice(0, MOST);
  const words = text.split(/\s+/);
  const ranked = entries.flatMap((e) => {
    const label = e.label.toLowerCase();
    if (!words.every((w) => label.includes(w))) return [];
    const name = label.split('.').at(-1)!;
    return [{ e, rank: (name.startsWith(words[0]!) ? 0 : 1) + label.length / 1000 }];
  });
  return ranked
    .sort((a, b) => a.rank - b.rank)
    .slice(0, MOST)
    .map((r) => r.e)
    .sort((a, b) => GROUPS.indexOf(a.group) - GROUPS.indexOf(b.group));
}

const GROUPS = ['Tables', 'Columns', 'Checks', 'Runs', 'Files', 'Commands'];
