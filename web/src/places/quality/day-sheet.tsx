import type { QualityDays } from '@ouvrage/api/quality';
import type { Verdict } from '@ouvrage/core/check';
import { useState, type KeyboardEvent } from 'react';
import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import { Hatch, VerdictMark } from '../../shared/marks';
import { Spacer, useVirtualRows } from '../../shared/ui/virtual-list';

/** A check, or a measure of the table. */
export type NowAt = { readonly check: string } | { readonly measure: string };

/** A table with its verdict a day, and what needs an eye now. */
export interface SheetRow {
  readonly table: string;
  readonly layer: number;
  readonly verdicts: readonly (Verdict | null)[];
  readonly now: { readonly to: NowAt; readonly verdict: Verdict; readonly text: string } | undefined;
}

interface Place {
  readonly table: string;
  readonly day: string;
}

const ROW = 33;
const MOVES: Readonly<Record<string, readonly [number, number]>> = {
  ArrowUp: [-1, 0],
  ArrowDown: [1, 0],
  ArrowLeft: [0, -1],
  ArrowRight: [0, 1],
};

/** Tables by days: one verdict a cell; what holds is a small dot, so that ink is where an eye is needed. Cells are reached with the arrow keys. */
export function DaySheet({
  rows,
  days,
  chosen,
  onChoose,
}: {
  rows: readonly SheetRow[];
  days: QualityDays['days'];
  chosen: Partial<Place>;
  onChoose: (place: Place) => void;
}) {
  const { slug } = useProject();
  const [scroller, setScroller] = useState<HTMLElement | null>(null);
  const {
    rows: shown,
    above,
    below,
  } = useVirtualRows(
    rows,
    scroller,
    ROW,
    rows.findIndex((r) => r.table === chosen.table),
  );
  const entry = shown.some((r) => r.table === chosen.table) ? chosen : { table: shown[0]?.table, day: days.at(-1) };
  const move = (e: KeyboardEvent<HTMLElement>) => {
    const step = MOVES[e.key];
    const from = (e.target as HTMLElement).closest<HTMLElement>('[data-cell]')?.dataset;
    if (!step || !from) return;
    e.preventDefault();
    const row = rows[rows.findIndex((r) => r.table === from['table']) + step[0]];
    const day = days[days.indexOf(from['day']!) + step[1]];
    if (!row || day === undefined) return;
    const cells = scroller?.querySelectorAll<HTMLElement>('[data-cell]') ?? [];
    [...cells].find((c) => c.dataset['table'] === row.table && c.dataset['day'] === day)?.focus();
  };
  return (
    <div ref={setScroller} className="min-h-0 flex-1 overflow-auto">
      <table className="w-full border-collapse text-left" aria-label="Verdicts by table and day" onKeyDown={move}>
        <thead className="sticky top-0 z-10 bg-sheet">
          <tr className="border-b border-line shadow-head">
            <th scope="col" className="caps w-62.5 min-w-50 px-4 py-1.5 font-medium">
              Table
            </th>
            {days.map((day, i) => (
              <th key={day} scope="col" className="relative p-0 text-center font-mono text-small font-normal text-soft">
                <span className="sr-only">{day}</span>
                <span aria-hidden className="whitespace-nowrap">
                  {isMarked(days, i) ? day.slice(8).replace(/^0/, '') : ''}
                </span>
              </th>
            ))}
            <th scope="col" className="caps w-75 px-4 py-1.5 font-medium">
              Now
            </th>
          </tr>
        </thead>
        <tbody>
          <Spacer height={above} />
          {shown.map((row) => (
            <tr key={row.table} className="border-b border-line" style={{ height: ROW }}>
              <th scope="row" className="max-w-62.5 truncate px-4 font-medium" title={row.table}>
                <Link
                  className="inline-flex items-center gap-2.5 hover:underline"
                  to={address.table(slug, row.table, 'checks')}
                >
                  <Hatch position={row.layer} />
                  {row.table}
                </Link>
              </th>
              {days.map((day, i) => (
                <td key={day} className="p-0 text-center">
                  <Cell
                    place={{ table: row.table, day }}
                    verdict={row.verdicts[i] ?? null}
                    isChosen={row.table === chosen.table && day === chosen.day}
                    isEntry={row.table === entry.table && day === (entry.day ?? days.at(-1))}
                    onChoose={onChoose}
                  />
                </td>
              ))}
              <td className="max-w-75 truncate px-4 text-small" title={row.now?.text}>
                {row.now && (
                  <Link
                    className={`hover:underline ${row.now.verdict === 'broken' ? 'text-broken' : 'text-soft'}`}
                    to={
                      'check' in row.now.to
                        ? address.check(slug, row.now.to.check)
                        : address.watch(slug, { table: row.table, measure: row.now.to.measure })
                    }
                  >
                    {row.now.text}
                  </Link>
                )}
              </td>
            </tr>
          ))}
          <Spacer height={below} />
        </tbody>
      </table>
    </div>
  );
}

/** Days that are named at the head: every fifth of a month, and the first. */
const isMarked = (days: readonly string[], i: number): boolean =>
  Number(days[i]!.slice(8)) % 5 === 0 || (days.length < 10 && i >= 0);

function Cell({
  place,
  verdict,
  isChosen,
  isEntry,
  onChoose,
}: {
  place: Place;
  verdict: Verdict | null;
  isChosen: boolean;
  isEntry: boolean;
  onChoose: (place: Place) => void;
}) {
  return (
    <button
      type="button"
      data-cell
      data-table={place.table}
      data-day={place.day}
      tabIndex={isEntry ? 0 : -1}
      aria-pressed={isChosen}
      aria-label={`${place.table}, ${place.day}: ${verdict ?? 'nothing ran'}`}
      onClick={() => onChoose(place)}
      className={`inline-flex size-5 items-center justify-center align-middle hover:bg-wash ${isChosen ? 'outline-2 outline-plan' : ''}`}
    >
      {verdict === 'holds' ? (
        <span aria-hidden className="size-1 rounded-full bg-soft" />
      ) : (
        verdict !== null && <VerdictMark verdict={verdict} size={11} />
      )}
    </button>
  );
}
