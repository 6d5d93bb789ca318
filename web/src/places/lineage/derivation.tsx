import type { Expression, Station } from '@ouvrage/core/lineage';
import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { placeAddress, useProject } from '../../data/project';
import { ago, plural } from '../../shared/format';
import { Hatch, VerdictMark } from '../../shared/marks';
import { SectionTitle } from '../../shared/ui/section-title';
import type { ColumnRef, TraceAnswer } from '../../worker/protocol';

/** More of them than anybody reads at once are told as a number. */
const MOST_LISTED = 40;

/** How a column is made, written step by step, what it feeds, and the checks on the way. */
export function Derivation({ trace, addressOf }: { trace: TraceAnswer; addressOf: (column: ColumnRef) => string }) {
  const [first] = trace.back;
  const { summary } = useProject();
  const isOnWay = new Set(trace.back.map((s) => `${s.table}.${s.column}`));
  const checks = summary.checks.filter(
    (c) => c.kind !== 'query' && c.columns.some((column) => isOnWay.has(`${c.table}.${column}`)),
  );
  return (
    <div className="flex flex-col gap-4">
      <section className="flex flex-col gap-2">
        <SectionTitle aside={plural(trace.back.length - 1, 'column before it', 'columns before it')}>
          How {first?.column} is made
        </SectionTitle>
        <ol className="flex flex-col">
          {trace.back.map((station, i) => (
            <StationLine
              key={station.id}
              station={station}
              addressOf={addressOf}
              isLast={i === trace.back.length - 1}
            />
          ))}
        </ol>
      </section>
      <section className="flex flex-col gap-1">
        <SectionTitle>Gives its value to</SectionTitle>
        <Columns columns={trace.values} none="no other column" addressOf={addressOf} />
      </section>
      <section className="flex flex-col gap-1">
        <SectionTitle>Influences</SectionTitle>
        <Columns columns={trace.influenced} none="no other column" addressOf={addressOf} />
        {trace.rows.length > 0 && <RowsOf tables={trace.rows} />}
      </section>
      <section className="flex flex-col gap-1">
        <SectionTitle>Checks on the way</SectionTitle>
        {checks.length === 0 ? <p className="text-soft">none</p> : <Checks ids={checks.map((c) => c.id)} />}
      </section>
    </div>
  );
}

function Checks({ ids }: { ids: readonly string[] }) {
  const { slug, checks } = useProject();
  const known = new Map(checks.map((c) => [c.id, c]));
  return (
    <ul>
      {ids.slice(0, MOST_LISTED).flatMap((id) => {
        const check = known.get(id);
        return check
          ? [
              <li key={id}>
                <Link
                  to={address.check(slug, id)}
                  className="flex min-h-6 items-center gap-2 hover:text-plan hover:underline"
                >
                  <VerdictMark verdict={check.verdict} size={11} />
                  <span className="min-w-0 truncate">
                    {check.table}: {check.title}
                  </span>
                </Link>
              </li>,
            ]
          : [];
      })}
    </ul>
  );
}

/** Columns as links to their own way. */
function Columns({
  columns,
  none,
  addressOf,
}: {
  columns: readonly ColumnRef[];
  none: string;
  addressOf: (column: ColumnRef) => string;
}) {
  if (columns.length === 0) return <p className="text-soft">{none}</p>;
  return (
    <ul>
      {columns.slice(0, MOST_LISTED).map((c) => (
        <li key={`${c.table}.${c.column}`} className="min-h-6 truncate">
          <Link to={addressOf(c)} className="hover:text-plan hover:underline">
            {c.table}.<span className="font-medium">{c.column}</span>
          </Link>
        </li>
      ))}
      {columns.length > MOST_LISTED && <li className="text-soft">and {columns.length - MOST_LISTED} more</li>}
    </ul>
  );
}

function RowsOf({ tables }: { tables: readonly string[] }) {
  const { slug } = useProject();
  return (
    <p>
      <span className="text-soft">which rows there are in </span>
      {tables.slice(0, MOST_LISTED).map((table, i) => (
        <span key={table}>
          {i > 0 && ', '}
          <Link to={address.table(slug, table)} className="hover:text-plan hover:underline">
            {table}
          </Link>
        </span>
      ))}
      {tables.length > MOST_LISTED && <span className="text-soft"> and {tables.length - MOST_LISTED} more</span>}
    </p>
  );
}

const SAID: Readonly<Record<Station['kind'], string>> = {
  copied: 'unchanged',
  cast: 'cast',
  calculated: 'calculated',
  aggregated: 'aggregated',
  'looked up': 'looked up',
  filled: 'filled by the load',
  given: '',
};

/** One column on the way: what makes it, as the author wrote it, and what decides its rows. */
function StationLine({
  station,
  addressOf,
  isLast,
}: {
  station: Station;
  addressOf: (column: ColumnRef) => string;
  isLast: boolean;
}) {
  const { layerPosition } = useProject();
  return (
    <li className="relative flex gap-3 pb-2.5 pl-0.5">
      {!isLast && <span aria-hidden className="absolute top-4 bottom-0 left-2.25 w-0.5 bg-plan" />}
      <span aria-hidden className="z-10 mt-1 size-3 shrink-0 border-2 border-plan bg-sheet" />
      <div className="flex min-w-0 flex-1 flex-col gap-1">
        <p className="flex flex-wrap items-baseline gap-x-2">
          <Hatch position={Math.max(0, layerPosition(station.table))} />
          <Link to={addressOf(station)} className="min-w-0 font-medium break-all hover:text-plan hover:underline">
            {station.table}.{station.column}
          </Link>
          {station.type && <span className="font-mono text-small text-soft">{station.type}</span>}
          {station.kind !== 'given' && <span className="text-small text-soft">{SAID[station.kind]}</span>}
          {station.kind === 'given' && <Given table={station.table} />}
        </p>
        <Described station={station} />
        {station.expressions.map((e) => (
          <Written key={e.start} expression={e} isOwn={e === station.expressions[0]} />
        ))}
        <Influences station={station} />
      </div>
    </li>
  );
}

/** What is written of a column at its own table. */
function Described({ station }: { station: Station }) {
  const { tables } = useProject();
  const comment = tables.get(station.table)?.columns?.find((c) => c.name === station.column)?.comment;
  return comment === undefined ? null : <p>{comment}</p>;
}

function Given({ table }: { table: string }) {
  const { tables, states } = useProject();
  const kind = tables.get(table)?.kind;
  const at = states.get(table)?.loadedAt;
  return (
    <span className="text-small text-soft">
      {kind === 'source' ? 'source' : kind === 'reference' ? 'reference rows' : 'declared'}
      {at ? `, loaded ${ago(at)}` : ''}
    </span>
  );
}

/** The author's text, a link to its line. */
function Written({ expression, isOwn }: { expression: Expression; isOwn: boolean }) {
  const project = useProject();
  const { path, line, text, name } = expression;
  return (
    <Link
      to={placeAddress(project, { path, line })}
      title={`${path}, line ${line}`}
      className={`block border border-line bg-raised px-2 py-1 font-mono text-small whitespace-pre-wrap hover:border-plan ${isOwn ? '' : 'ml-4'}`}
    >
      {!isOwn && <span className="text-soft">{name} = </span>}
      {text}
    </Link>
  );
}

function Influences({ station }: { station: Station }) {
  const own = station.influence.filter((id) => !id.endsWith('.*'));
  const rows = station.rows.filter((id) => !id.endsWith('.*'));
  if (own.length + rows.length === 0) return null;
  const list = (ids: readonly string[]) =>
    `${ids.slice(0, 6).join(', ')}${ids.length > 6 ? ` and ${ids.length - 6} more` : ''}`;
  return (
    <p className="text-small break-words text-soft">
      {own.length > 0 && <>depends on {list(own)}</>}
      {own.length > 0 && rows.length > 0 && '; '}
      {rows.length > 0 && <>rows by {list(rows)}</>}
    </p>
  );
}
