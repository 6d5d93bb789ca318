import { HISTOGRAM_STEPS, type RowFilter } from '@ouvrage/core/look';
import type { ColumnProfile } from '@ouvrage/core/model';

/** A bar of a profile, and the filters that leave its rows. */
export interface Bar {
  readonly label: string;
  readonly count: number;
  readonly filters: readonly RowFilter[];
}

/** A histogram for quantities and instants with more values than bars; else the most frequent values. */
export function barsOf(column: ColumnProfile): Bar[] {
  const { name, frequent, histogram, distinct, nulls } = column;
  const few = distinct !== null && distinct <= frequent.length;
  if (histogram?.length && !few && column.least !== null && column.greatest !== null) return stepsOf(column);
  const bars: Bar[] = frequent.map(([value, n]) => ({
    label: value === '' ? '(empty)' : value,
    count: n,
    filters: [{ column: name, op: '=', value }],
  }));
  return nulls > 0 ? [...bars, { label: '(null)', count: nulls, filters: [{ column: name, op: 'is null' }] }] : bars;
}

function stepsOf({ name, type, shape, least, greatest, histogram }: ColumnProfile): Bar[] {
  const quantity = shape === 'instant' ? (text: string) => instant(text, type) : Number;
  const [low, high] = [quantity(least!), quantity(greatest!)];
  if (!Number.isFinite(low) || !Number.isFinite(high)) return [];
  const at = (step: number) => low + ((high - low) / HISTOGRAM_STEPS) * step;
  const said = (value: number) =>
    shape === 'instant'
      ? new Date(value)
          .toISOString()
          .slice(0, type === 'date' ? 10 : 19)
          .replace('T', ' ')
      : String(Number(value.toPrecision(6)));
  const counts = new Map(histogram);
  return Array.from({ length: HISTOGRAM_STEPS }, (_, step) => {
    const [from, to] = [
      step === 0 ? least! : said(at(step)),
      step === HISTOGRAM_STEPS - 1 ? greatest! : said(at(step + 1)),
    ];
    return {
      label: `${said(at(step))} to ${said(at(step + 1))}`,
      count: counts.get(step) ?? 0,
      filters: [
        { column: name, op: '>=', value: from },
        { column: name, op: step === HISTOGRAM_STEPS - 1 ? '<=' : '<', value: to },
      ],
    };
  });
}

/** PostgreSQL's `2026-03-01 10:00:00+00`, in milliseconds; without a zone it is read as UTC. */
function instant(text: string, type: string): number {
  if (type === 'date') return Date.parse(`${text}T00:00:00Z`);
  const iso = text.replace(' ', 'T').replace(/([+-]\d\d)$/, '$1:00');
  return Date.parse(/[+-]\d\d:\d\d$/.test(iso) ? iso : `${iso}Z`);
}
