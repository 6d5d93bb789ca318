import type { FaultRows } from '@ouvrage/api/rows';
import { count, rows } from './format';
import { Grid } from './grid';
import { SectionTitle } from './ui/section-title';

/** Rows that are at fault, in a grid as high as they need. */
export function FaultGrid({
  title,
  about,
  rows: found,
  atFault,
  word = 'at fault of',
}: {
  title: string;
  about: string;
  rows: FaultRows;
  atFault: number;
  word?: string;
}) {
  return (
    <section className="flex flex-col gap-1.5" aria-label={`Rows ${word} ${about}`}>
      <SectionTitle
        aside={atFault > found.rows.length ? `first ${found.rows.length} of ${count(atFault)}` : rows(atFault)}
      >
        {title}
      </SectionTitle>
      <div className="border border-line" style={{ height: Math.min(240, 42 + found.rows.length * 22) }}>
        <Grid label={`Rows ${word} ${about}`} columns={found.columns.map((name) => ({ name }))} rows={found.rows} />
      </div>
    </section>
  );
}
