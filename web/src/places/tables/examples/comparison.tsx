import type { ExampleOutcome, ExampleRow } from '@ouvrage/api/example';
import { plural } from '../../../shared/format';
import { SectionTitle } from '../../../shared/ui/section-title';

const WORDS: Readonly<Record<ExampleRow['kind'], string>> = {
  same: 'as expected',
  differs: 'differs',
  missing: 'missing',
  extra: 'not expected',
};

/** What was made beside what was expected, by row and by cell; rows that differ come first. */
export function Comparison({ outcome: { columns, rows } }: { outcome: ExampleOutcome }) {
  const same = rows.filter((r) => r.kind === 'same').length;
  const listed = [...rows].sort((a, b) => Number(a.kind === 'same') - Number(b.kind === 'same'));
  return (
    <section aria-label="Result" className="flex shrink-0 flex-col gap-1.5 px-3.5">
      <SectionTitle aside={`${same} of ${plural(rows.length, 'row')} as expected`}>Result</SectionTitle>
      <div className="overflow-auto border border-line" tabIndex={0} role="group" aria-label="Rows compared">
        <table className="w-full text-small">
          <thead>
            <tr className="border-b border-rule text-left">
              <th scope="col" className="px-2.5 py-1 font-normal text-soft">
                row
              </th>
              {columns.map((c) => (
                <th key={c} scope="col" className="px-2.5 py-1 font-medium">
                  {c}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {listed.map((row, i) => (
              <tr key={i} className={`border-b border-line align-top ${row.kind === 'same' ? '' : 'bg-raised'}`}>
                <th
                  scope="row"
                  className={`px-2.5 py-1 text-left font-normal whitespace-nowrap ${row.kind === 'same' ? 'text-soft' : 'text-broken'}`}
                >
                  {WORDS[row.kind]}
                </th>
                {columns.map((c, at) => (
                  <td key={c} className="px-2.5 py-1 font-mono whitespace-nowrap">
                    <Compared row={row} at={at} />
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}

function Compared({ row, at }: { row: ExampleRow; at: number }) {
  const { expected, actual } = row;
  if (row.kind === 'differs' && row.cells.includes(at))
    return (
      <>
        <span className="block text-broken">
          <Value value={actual![at] ?? null} />
        </span>
        <span className="block font-sans text-soft">
          expected{' '}
          <span className="font-mono">
            <Value value={expected![at] ?? null} />
          </span>
        </span>
      </>
    );
  return <Value value={(actual ?? expected)![at] ?? null} />;
}

function Value({ value }: { value: string | null }) {
  if (value === null) return <span className="italic">null</span>;
  return value === '' ? <span className="italic">empty</span> : <>{value}</>;
}
