import type { DeliveryEntry } from '@ouvrage/api/delivery';
import type { TriedName } from '@ouvrage/core/intake';
import { useEffect, useState } from 'react';
import { useProject } from '../../data/project';
import { plural } from '../../shared/format';
import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { projectWorker } from '../../worker/client';

/** More lines would not be looked through. */
const MOST = 200;

/**
 * Tries names of files against the patterns as they stand in this workspace, before a release; of files that came
 * already, those that would go to another table are named.
 */
export function TryNames({ delivered }: { delivered: readonly DeliveryEntry[] }) {
  const { summary } = useProject();
  const [typed, setTyped] = useState('');
  const names = [...new Set(typed.split('\n').flatMap((n) => n.trim() || []))].slice(0, MOST);
  const tried = useTried(names, summary);
  const before = useTried(
    delivered.map((d) => d.file),
    summary,
  );
  const others = delivered.filter((d, i) => before.length > i && (before[i]!.table ?? null) !== d.table);
  return (
    <section aria-label="Try a file’s name" className="flex flex-col gap-2 border-b border-rule px-3 py-2">
      <label className="flex items-start gap-3">
        <span className="pt-1">Try a file’s name</span>
        <textarea
          rows={typed.includes('\n') ? 4 : 1}
          value={typed}
          spellCheck={false}
          placeholder="berth_rates_2026-03-01.csv, one a line; nothing is loaded"
          onChange={(e) => setTyped(e.target.value)}
          className="min-w-0 flex-1 rounded-edge border border-rule bg-raised px-2 py-1 font-mono text-small"
        />
      </label>
      {tried.length > 0 && <DataTable isDense columns={COLUMNS} rows={tried} keyOf={(t) => t.name} />}
      {others.length > 0 && (
        <p className="text-advisory-text">
          {plural(others.length, 'file')} of those below would now go elsewhere:{' '}
          {others.slice(0, 4).map((d, i) => (
            <span key={d.id}>
              {i > 0 && ', '}
              <span className="font-mono text-small">{d.file}</span> to{' '}
              {before.find((t) => t.name === d.file)?.table ?? 'no table'}
            </span>
          ))}
          {others.length > 4 && ` and ${others.length - 4} more`}.
        </p>
      )}
    </section>
  );
}

const COLUMNS: readonly DataColumn<TriedName>[] = [
  { id: 'file', look: 'font-mono text-small break-all', cell: ({ name }) => name },
  {
    id: 'goes to',
    cell: ({ table, also }) => (
      <>
        {table ?? <span className="text-broken">no table: no pattern takes this name</span>}
        {also.length > 0 && (
          <span className="block text-small text-advisory-text">
            the patterns of {also.join(', ')} take it as well; the first one has it
          </span>
        )}
      </>
    ),
  },
  { id: 'by the pattern', look: 'font-mono text-small', cell: ({ pattern }) => pattern ?? '–' },
  {
    id: 'the name gives',
    look: 'font-mono text-small',
    cell: ({ parts }) => (parts.length ? parts.map(([column, value]) => `${column} = ${value}`).join(', ') : '–'),
  },
];

/** What becomes of each name, by the patterns of a project as it is now. */
function useTried(names: readonly string[], project: object): readonly TriedName[] {
  const [tried, setTried] = useState<readonly TriedName[]>([]);
  const key = names.join('\n');
  useEffect(() => {
    let current = true;
    const asked = key === '' ? [] : key.split('\n');
    projectWorker.ask<'tryNames'>({ kind: 'tryNames', names: asked }).then(
      (found) => current && setTried(found),
      // The files and their tables are listed all the same.
      () => current && setTried([]),
    );
    return () => {
      current = false;
    };
  }, [key, project]);
  return tried;
}
