import { splitCounts, splitTable } from '@ouvrage/core/starter';
import { useState } from 'react';
import { usePreviewMutation } from '../../data/rows';
import { useProject } from '../../data/project';
import type { ProblemBody } from '@ouvrage/api/problem';
import { count } from '../../shared/format';
import { inputClass } from '../../shared/ui/input';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Button } from '../../shared/ui/button';
import { bareName, TableSelect, useSourceTable, useStateFor } from './parts';
import { StarterSheet } from './starter-sheet';

interface Part {
  readonly name: string;
  readonly condition: string;
}

/** One table in several by conditions, and what is left. */
export function Split() {
  const { slug } = useProject();
  const [table, choose] = useSourceTable((t) => t.layer === 'staging');
  const name = bareName(table?.fullName ?? 'x');
  const [parts, setParts] = useStateFor<readonly Part[]>(table?.fullName ?? '', () => [
    { name: `${name}_1`, condition: '' },
  ]);
  const [remainder, setRemainder] = useState(true);
  const [ask, { data, error, isLoading, reset }] = usePreviewMutation();
  const sound = parts.filter((p) => p.condition.trim() !== '');
  const source = table?.fullName ?? '';
  const change = (next: readonly Part[]) => {
    reset();
    setParts(next);
  };
  const queries = sound.length
    ? [...splitTable({ source, parts: sound, ...(remainder ? { remainder: `${name}_rest` } : {}) })].map(
        ([part, sql]) => ({ name: part, sql }),
      )
    : [];
  const counted = data?.rows[0];
  return (
    <StarterSheet
      title="Filter and split"
      queries={queries}
      wants={sound.length ? undefined : 'Write a condition.'}
      {...(table ? { layer: table.layer === 'landing' ? 'staging' : table.layer } : {})}
    >
      <TableSelect label="Table" value={table?.fullName} onChange={choose} />
      <section aria-label="Parts" className="flex flex-col gap-1.5">
        <h3 className="caps">Parts</h3>
        {parts.map((p, i) => (
          <div key={i} className="flex items-center gap-2">
            <input
              aria-label={`Name of part ${i + 1}`}
              value={p.name}
              onChange={(e) => change(parts.map((o, j) => (j === i ? { ...o, name: e.target.value } : o)))}
              className={`${inputClass} w-40! font-mono text-small`}
            />
            <input
              aria-label={`Condition of part ${i + 1}`}
              placeholder="condition, in SQL"
              spellCheck={false}
              value={p.condition}
              onChange={(e) => change(parts.map((o, j) => (j === i ? { ...o, condition: e.target.value } : o)))}
              className={`${inputClass} font-mono text-small`}
            />
            <span className="w-20 text-right font-mono text-small">
              {counted && sound.includes(p) ? count(counted[1 + sound.indexOf(p)]) : ''}
            </span>
            <Button
              tone="quiet"
              aria-label={`Remove part ${i + 1}`}
              onClick={() => change(parts.filter((_, j) => j !== i))}
            >
              ×
            </Button>
          </div>
        ))}
        <label className="flex items-center gap-2">
          <input type="checkbox" checked={remainder} onChange={(e) => setRemainder(e.target.checked)} /> a table of all
          rows that no part takes
        </label>
        <div className="flex gap-2">
          <Button onClick={() => change([...parts, { name: `${name}_${parts.length + 1}`, condition: '' }])}>
            Add a part
          </Button>
          <Button
            disabled={sound.length === 0 || isLoading}
            onClick={() =>
              void ask({ slug, path: 'adhoc/split_counts.sql', text: splitCounts({ source, parts: sound }), limit: 1 })
            }
          >
            Count rows
          </Button>
        </div>
      </section>
      {error && <ProblemNote problem={error as ProblemBody} />}
      {counted && (
        <p role="status" className="border-l-3 border-plan bg-raised px-3 py-2">
          Of {count(counted[0])} rows, {count(counted.at(-2))} are in more than one part and {count(counted.at(-1))} in
          none.
        </p>
      )}
    </StarterSheet>
  );
}
