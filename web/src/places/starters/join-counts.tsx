import type { AnatomyStep } from '@ouvrage/api/anatomy';
import { count, rows } from '../../shared/format';
import { Button } from '../../shared/ui/button';
import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { ProblemNote } from '../../shared/ui/problem-note';
import { figureOf, type Strip } from '../tables/anatomy/strip';
import { useAnatomy } from '../tables/anatomy/use-anatomy';

/** Rows before and after each join of a query, and those without a partner or with several. */
export function JoinCounts({ text, base }: { text: string; base: string }) {
  const anatomy = useAnatomy('adhoc/joined.sql', undefined);
  // What was counted for other choices says nothing of these.
  const strip = anatomy.text === text ? anatomy.here : undefined;
  const joins = strip?.steps.filter((s) => s.kind === 'join' && s.depth === 0) ?? [];
  const source = strip?.steps.find((s) => s.table === base);
  const [before, after] = [source, strip?.steps.at(-1)].map((s) =>
    strip && s ? figureOf(strip, s, 'rows') : undefined,
  );
  return (
    <section aria-label="Rows of the joins" className="flex flex-col gap-2">
      <div className="flex items-center gap-3">
        <Button onClick={() => (anatomy.running ? anatomy.stop() : anatomy.count(text, 'force'))}>
          {anatomy.running ? 'Stop counting' : 'Count rows before and after each join'}
        </Button>
        {before !== undefined && after !== undefined && (
          <p role="status" className={after === before ? '' : 'text-broken'}>
            {rows(before)} of {base}, {count(after)} after the joins{after === before ? '' : ': not the same'}.
          </p>
        )}
      </div>
      {anatomy.text === text && anatomy.problem && <ProblemNote problem={anatomy.problem} />}
      {strip && joins.length > 0 && <DataTable isDense columns={columnsOf(strip)} rows={joins} keyOf={(s) => s.id} />}
    </section>
  );
}

function columnsOf(strip: Strip): DataColumn<AnatomyStep>[] {
  const figure = (id: string, name: Parameters<typeof figureOf>[2]): DataColumn<AnatomyStep> => ({
    id,
    inFigures: true,
    cell: (step) => {
      const value = figureOf(strip, step, name);
      const why = strip.failed.get(step.id)?.message ?? step.why;
      return value === undefined ? <span title={why ?? 'not counted yet'}>–</span> : count(value);
    },
  });
  return [
    { id: 'join', look: 'max-w-40 truncate', cell: ({ label }) => <span title={label}>{label}</span> },
    figure('before', 'left'),
    figure('after', 'rows'),
    figure('no partner', 'leftAlone'),
    figure('several partners', 'leftSeveral'),
    figure('unused there', 'rightAlone'),
  ];
}
