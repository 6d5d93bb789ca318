import type { ComparedCounts } from '@ouvrage/api/compared';
import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { type ComparedOutcome, useComparedAll } from '../../data/compared';
import { useProject } from '../../data/project';
import { count, plural, rows as rowsWords } from '../../shared/format';
import { Button } from '../../shared/ui/button';
import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { SectionTitle } from '../../shared/ui/section-title';

interface Line {
  readonly table: string;
  readonly outcome: ComparedOutcome | undefined;
  /** Rows that differ in any way; null where they were not compared. */
  readonly differing: number | null;
}

/** The rows of all tables that change, and of all that read them: those that changed most first, as they are counted. */
export function ComparedAll({ tables }: { readonly tables: readonly string[] }) {
  const { slug } = useProject();
  const { found, isGoing, stop, goOn } = useComparedAll({ slug, tables });
  const lines = tables
    .map((table): Line => {
      const outcome = found.get(table);
      return { table, outcome, differing: outcome === undefined ? null : differingRows(outcome) };
    })
    .sort((a, b) => (b.differing ?? -1) - (a.differing ?? -1) || a.table.localeCompare(b.table));
  return (
    <div className="flex h-full flex-col gap-3 overflow-auto p-4">
      <SectionTitle aside={`${found.size} of ${plural(tables.length, 'table')} compared`}>
        Rows that differ from production’s
      </SectionTitle>
      <DataTable label="Compared tables" columns={columnsOf(slug)} rows={lines} keyOf={(l) => l.table} />
      <div>
        {isGoing ? (
          <Button onClick={stop}>Stop</Button>
        ) : (
          found.size < tables.length && <Button onClick={goOn}>Go on comparing</Button>
        )}
      </div>
    </div>
  );
}

/** Rows that are here alone, there alone or changed; those of repeated keys too. */
function differingRows(outcome: ComparedOutcome): number | null {
  if ('problem' in outcome) return null;
  if (outcome.isSame) return 0;
  const { onlyHere, onlyThere, different, repeated } = outcome;
  const twice = repeated ? Number(repeated.there) + Number(repeated.here) - 2 * Number(repeated.equal) : 0;
  return Number(onlyHere) + Number(onlyThere) + Number(different) + twice;
}

const NO_VERSIONS: Readonly<Record<string, string>> = {
  'not-run': 'not run here yet',
  'new-table': 'new: production does not have it',
};

function saysOf({ outcome, differing }: Line): string {
  if (outcome === undefined) return 'not compared yet';
  if ('problem' in outcome) return NO_VERSIONS[outcome.problem.code] ?? outcome.problem.title;
  if (outcome.isSame) return 'read from production';
  if (differing === 0) return `${rowsWords(outcome.equal)} equal`;
  if (outcome.newer.length > 0) return 'perhaps not like for like';
  return outcome.repeated ? 'keys occur more than once' : '';
}

const figure = (of: (counts: ComparedCounts) => string) => (line: Line) => {
  const { outcome } = line;
  if (outcome === undefined || 'problem' in outcome || outcome.isSame) return '';
  const n = of(outcome);
  return n === '0' ? <span className="text-soft">0</span> : count(n);
};

const columnsOf = (slug: string): readonly DataColumn<Line>[] => [
  {
    id: 'table',
    sortBy: (l) => l.table,
    cell: (l) => (
      <Link
        className="font-mono text-small text-plan underline underline-offset-2"
        to={address.comparedRows(slug, l.table)}
      >
        {l.table}
      </Link>
    ),
  },
  { id: 'only here', inFigures: true, cell: figure((c) => c.onlyHere) },
  { id: 'only there', inFigures: true, cell: figure((c) => c.onlyThere) },
  { id: 'changed', inFigures: true, cell: figure((c) => c.different) },
  { id: 'equal', inFigures: true, cell: figure((c) => c.equal) },
  { id: 'remark', look: 'text-soft', cell: saysOf },
];
