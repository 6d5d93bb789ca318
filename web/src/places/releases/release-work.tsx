import type { Comparison, TableChange } from '@ouvrage/api/release';
import { diskSize, duration, plural } from '../../shared/format';
import { SectionTitle } from '../../shared/ui/section-title';

/** What a release will do, and what it takes. */
export function ReleaseWork({ tables, cost, restores }: Pick<Comparison, 'tables' | 'cost' | 'restores'>) {
  const copied = restores?.tables.filter((t) => t.bytes !== null).map((t) => t.table) ?? [];
  const built = tables.filter((t) => t.kind !== 'deleted' && !copied.includes(t.table));
  const dropped = tables.filter((t) => t.kind === 'deleted').map((t) => t.table);
  const renamed = built.flatMap(renamedWords);
  return (
    <section aria-label="What the release does" className="flex flex-col gap-1">
      <SectionTitle>What the release does</SectionTitle>
      {copied.length > 0 && (
        <p>
          Puts {plural(copied.length, 'kept copy', 'kept copies')} back, all in one transaction. Then production loads
          them and what reads them.
        </p>
      )}
      <p>
        {built.length === 0
          ? copied.length > 0
            ? ''
            : 'It builds no table.'
          : `Builds ${plural(built.length, 'table')} next to the old ones, checks them, and swaps them all at once.`}{' '}
        Readers see either the old tables or the new ones.{' '}
        {restores ? 'Checks run with the load.' : 'If a check breaks, production stays as it is.'}
      </p>
      {renamed.length > 0 && <p className="break-words">Renames {renamed.join(', ')}: values stay.</p>}
      {dropped.length > 0 && <p className="break-words">Drops {dropped.join(', ')}.</p>}
      {built.length > 0 && <p className="text-small text-soft">{costWords(built.length, cost)}</p>}
      {cost.free !== null && cost.bytes > cost.free && (
        <p className="text-advisory-text">The disk may become full: then the release fails, and production stays.</p>
      )}
    </section>
  );
}

const renamedWords = ({ table, was, columnsRenamed }: TableChange): string[] => [
  ...(was === undefined ? [] : [`${was} to ${table}`]),
  ...columnsRenamed.map((c) => `${table}.${c.was} to ${c.now}`),
];

/** Time and disk, as the last loads in production say. */
function costWords(built: number, { seconds, untimed, bytes, free }: Comparison['cost']): string {
  const disk = `It needs ${bytes < 1e6 ? '' : 'about '}${diskSize(bytes)} of disk until it is through${free === null ? '' : `; ${diskSize(free)} are free`}.`;
  if (untimed === built) return `None of them has been loaded in production yet. ${disk}`;
  const known = built - untimed;
  const which =
    untimed === 0 ? (built === 1 ? 'Its last load' : 'Their last loads') : `The last loads of ${known} of them`;
  return `${which} took ${duration(seconds * 1000)}${built > 1 ? ', one after the other' : ''}. ${disk}`;
}
