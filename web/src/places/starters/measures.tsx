import { MEASURES, type Measure, type MeasureKind } from '@ouvrage/core/starter';
import { inputClass } from '../../shared/ui/input';
import { Button } from '../../shared/ui/button';
import { ColumnSelect, Row } from './parts';

const ZEROABLE: readonly MeasureKind[] = ['sum', 'average', 'share'];

/** The name that a measure gets until it has another one. */
export const measureName = (kind: MeasureKind, column: string | undefined) =>
  column === undefined ? 'row_count' : `${kind === 'sum' ? 'total' : kind}_${column}`;

/** Measures of a group: what is counted or added up, how nulls are taken, and the name. */
export function Measures({
  columns,
  measures,
  onChange,
}: {
  columns: readonly { readonly name: string }[];
  measures: readonly Measure[];
  onChange: (measures: readonly Measure[]) => void;
}) {
  const change = (i: number, next: Measure) => onChange(measures.map((m, j) => (j === i ? next : m)));
  return (
    <section aria-label="Measures">
      <h3 className="caps mb-1">Measures</h3>
      {measures.map((m, i) => {
        const renamed = (kind: MeasureKind, column: string | undefined): Measure => ({
          kind,
          name: m.name === measureName(m.kind, m.column) ? measureName(kind, column) : m.name,
          ...(column === undefined ? {} : { column }),
          ...(m.nullIsZero && ZEROABLE.includes(kind) ? { nullIsZero: true } : {}),
        });
        return (
          <Row key={i}>
            <span className="w-28">
              <select
                aria-label={`Measure ${i + 1}`}
                value={m.kind}
                onChange={(e) => change(i, renamed(e.target.value as MeasureKind, m.column ?? columns[0]?.name))}
                className={inputClass}
              >
                {MEASURES.map((k) => (
                  <option key={k}>{k}</option>
                ))}
              </select>
            </span>
            <span className="w-44">
              <ColumnSelect
                label={`Column of measure ${i + 1}`}
                columns={columns}
                value={m.column}
                {...(m.kind === 'count' ? { none: 'of rows' } : {})}
                onChange={(column) => change(i, renamed(m.kind, column))}
              />
            </span>
            <input
              aria-label={`Name of measure ${i + 1}`}
              value={m.name}
              onChange={(e) => change(i, { ...m, name: e.target.value })}
              className={`${inputClass} w-44! font-mono text-small`}
            />
            {ZEROABLE.includes(m.kind) && (
              <label className="flex items-center gap-1.5">
                <input
                  type="checkbox"
                  checked={m.nullIsZero ?? false}
                  onChange={(e) => change(i, { ...m, nullIsZero: e.target.checked })}
                />{' '}
                null is 0
              </label>
            )}
            <span className="flex-1" />
            <Button
              tone="quiet"
              aria-label={`Remove measure ${i + 1}`}
              onClick={() => onChange(measures.filter((_, j) => j !== i))}
            >
              ×
            </Button>
          </Row>
        );
      })}
      <p className="py-1 text-small text-soft">Nulls are ignored, unless a measure counts them as 0.</p>
      <Button
        onClick={() => {
          const column = columns[0]?.name;
          onChange([
            ...measures,
            column === undefined
              ? { kind: 'count', name: 'row_count' }
              : { kind: 'sum', column, name: measureName('sum', column) },
          ]);
        }}
      >
        Add a measure
      </Button>
    </section>
  );
}
