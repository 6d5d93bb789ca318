/** Names that mean something else in addresses, in git or in the warehouse. */
const RESERVED: ReadonlySet<string> = new Set(['production', 'main', 'head']);

/** Whether a name can be a workspace's: it is in addresses, and names its branch. */
export const isSlug = (name: string): boolean => /^[a-z0-9][a-z0-9-]{0,39}$/.test(name) && !RESERVED.has(name);

/** A workspace's name as it is in addresses; the first that is free. */
export function slugFor(name: string, taken: ReadonlySet<string>): string {
  const base =
    name
      .normalize('NFKD')
      .replaceAll(/\p{M}/gu, '')
      .toLowerCase()
      .replaceAll(/[^a-z0-9]+/g, '-')
      .replaceAll(/^-+|-+$/g, '')
      .slice(0, 36)
      .replace(/-+$/, '') || 'workspace';
  for (let n = 1; ; n++) {
    const slug = n === 1 ? base : `${base}-${n}`;
    if (isSlug(slug) && !taken.has(slug)) return slug;
  }
}
