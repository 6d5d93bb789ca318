import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { address } from '../../data/addresses';
import { useBringInMutation, useCompareSourcesMutation, useSourcesQuery } from '../../data/sources';
import { useAdvanceMutation, useHarbourQuery } from '../../data/standin';
import { useProject } from '../../data/project';
import { mayAct, PRODUCTION, usePerson } from '../../data/person';
import type { ProblemBody } from '@ouvrage/api/problem';
import type { SourceSystem } from '@ouvrage/api/source';
import { ago, count, duration, moment, plural } from '../../shared/format';
import { Hatch } from '../../shared/marks';
import { useTell } from '../../shared/toasts';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Loading } from '../../shared/ui/loading';
import { Empty } from '../../shared/ui/empty';
import { Tag } from '../../shared/ui/tag';
import { Button } from '../../shared/ui/button';
import { Hint } from '../../shared/ui/hint';
import { Spacer, useVirtualRows } from '../../shared/ui/virtual-list';
import { StepWord } from '../runs/step-state';
import { DriftSheet } from './drift';
import { DropFolder } from './drop-folder';
import { ImportTables } from './import-tables';

/** Systems that data comes from, their tables, and when each was last brought in. */
export default function Sources() {
  const { slug } = useProject();
  const { data, error, isLoading, refetch } = useSourcesQuery(slug);
  const [importing, setImporting] = useState(false);
  const reason = useDraftReason();
  if (isLoading) return <Loading what="Reading sources" />;
  if (error)
    return (
      <div className="p-4">
        <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />
      </div>
    );
  return (
    <div className="h-full overflow-auto bg-sheet">
      <div className="mx-auto flex max-w-[1180px] flex-col gap-5 p-5">
        <div className="flex items-center gap-4">
          <p className="flex-1 text-soft">Where data comes from, and how far each table has come.</p>
          <Button tone="act" {...(reason ? { reason } : {})} onClick={() => setImporting(true)}>
            Import tables
          </Button>
        </div>
        {data?.length === 0 && (
          <Empty title="No source is declared yet">
            <p>
              Import tables of a connection, or write create server and create foreign table into a file of sources/.
            </p>
          </Empty>
        )}
        {inOrder(data ?? []).map((s) =>
          s.wrapper === 'file_fdw' ? <DropFolder key={s.server} system={s} /> : <System key={s.server} system={s} />,
        )}
        <Clock />
      </div>
      {importing && <ImportTables onClose={() => setImporting(false)} />}
    </div>
  );
}

function System({ system }: { system: SourceSystem }) {
  const { slug, tables } = useProject();
  const person = usePerson();
  const [bringIn, { isLoading }] = useBringInMutation();
  const navigate = useNavigate();
  const tell = useTell();
  const [open, setOpen] = useState<string>();
  const [compare, { isLoading: comparing }] = useCompareSourcesMutation();
  const draftReason = useDraftReason();
  const [scroller, setScroller] = useState<HTMLDivElement | null>(null);
  const { rows, above, below } = useVirtualRows(system.tables, scroller, 36);
  // A table declared as production has it is production's: workspaces read it from there. Others land in the workspace.
  const targetOf = (t: Row) => (t.sameAsProduction ? PRODUCTION : slug);
  const reasonFor = (tables: readonly Row[]) => {
    if (!mayAct(person, 'editor')) return `Bringing data in needs the role editor, yours is ${person.role}.`;
    if (tables.some((t) => targetOf(t) === PRODUCTION) && !mayAct(person, 'releaser'))
      return `Landing tables are production’s: bringing data in needs the role releaser, yours is ${person.role}.`;
    return undefined;
  };
  const bring = async (chosen: readonly Row[]) => {
    try {
      let last: number | undefined;
      for (const target of new Set(chosen.map(targetOf))) {
        const tables = chosen.filter((t) => targetOf(t) === target).map((t) => t.table);
        last = (await bringIn({ slug: target, tables }).unwrap()).id;
      }
      if (last !== undefined) await navigate(address.run(slug, last));
    } catch (problem) {
      tell.problem(problem);
    }
  };
  const allReason = reasonFor(system.tables);
  const hold = () =>
    void compare({ slug, server: system.server })
      .unwrap()
      .then((found) => {
        const names = Object.entries(found).flatMap(([name, drift]) => (drift ? [name] : []));
        tell.say(
          names.length ? `${plural(names.length, 'table')} drifted` : 'Nothing has drifted',
          names.join(', ') || `${system.server} has the columns that are declared.`,
        );
      })
      .catch(tell.problem);
  return (
    <section aria-label={system.server} className="border border-rule">
      <header className="flex items-center gap-4 border-b border-rule bg-paper px-4 py-2.5">
        <div>
          <h1 className="sheet-title">{system.server}</h1>
          <p className="font-mono text-small text-soft">
            {system.connection
              ? `${system.connection.user}@${system.connection.host}:${system.connection.port}/${system.connection.database}`
              : 'not bound to a connection'}{' '}
            · {system.wrapper} ·{' '}
            <Link to={address.file(slug, system.path)} className="text-plan underline underline-offset-2">
              {system.path}
            </Link>
          </p>
        </div>
        <span className="flex-1" />
        <Button disabled={comparing} {...(draftReason ? { reason: draftReason } : {})} onClick={hold}>
          Compare columns
        </Button>
        <Button
          tone="act"
          disabled={isLoading || system.tables.length === 0}
          {...(allReason ? { reason: allReason } : {})}
          onClick={() => void bring(system.tables)}
        >
          Bring in all {system.tables.length}
        </Button>
      </header>
      <div ref={setScroller} className="max-h-[70vh] overflow-auto">
        <table className="w-full text-left">
          <thead>
            <tr className="sticky top-0 z-10 bg-sheet text-small shadow-[0_1px_0_var(--rule)]">
              {['table', 'columns', 'rows', 'last intake', 'rows out', 'rows in', 'took', ''].map((h, i) => (
                <th
                  key={i}
                  className={`px-3 py-1 font-medium ${['rows', 'rows out', 'rows in', 'took', 'columns'].includes(h) ? 'text-right' : ''}`}
                >
                  {h || <span className="sr-only">action</span>}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            <Spacer height={above} />
            {rows.map((t) => {
              const columns = tables.get(t.table)?.columns ?? [];
              return (
                <SourceRow
                  key={t.table}
                  row={t}
                  columns={columns}
                  open={open === t.table}
                  onToggle={() => setOpen(open === t.table ? undefined : t.table)}
                  server={system.server}
                  reason={reasonFor([t])}
                  onBring={() => void bring([t])}
                />
              );
            })}
            <Spacer height={below} />
          </tbody>
        </table>
      </div>
    </section>
  );
}

/** Databases first, then what comes in files. */
const inOrder = (systems: readonly SourceSystem[]) =>
  [...systems].sort((a, b) => Number(a.wrapper === 'file_fdw') - Number(b.wrapper === 'file_fdw'));

/** Why a person cannot write drafts here, if so. */
function useDraftReason(): string | undefined {
  const person = usePerson();
  const { isProduction } = useProject();
  if (!mayAct(person, 'editor')) return `Only editors can change the project; you are a ${person.role}.`;
  return isProduction ? 'Production changes by a release only: open a workspace.' : undefined;
}

type Row = SourceSystem['tables'][number];
type Columns = readonly { readonly name: string; readonly type?: string; readonly isKey: boolean }[];

function SourceRow({
  row,
  columns,
  open,
  onToggle,
  server,
  reason,
  onBring,
}: {
  row: Row;
  server: string;
  columns: Columns;
  open: boolean;
  onToggle: () => void;
  reason: string | undefined;
  onBring: () => void;
}) {
  const { slug } = useProject();
  const { last } = row;
  const [comparing, setComparing] = useState(false);
  const draftReason = useDraftReason();
  return (
    <>
      <tr className={`border-b border-line ${open ? 'bg-raised' : ''}`}>
        <td className="px-3 py-1.5">
          <span className="flex items-center gap-2">
            <Hatch position={0} />
            <Link to={address.table(slug, row.table, 'rows')} className="font-medium hover:text-plan hover:underline">
              {row.table}
            </Link>
            {row.incremental && <Tag>incremental</Tag>}
            {!row.sameAsProduction && <Tag tone="advisory">differs from production</Tag>}
            {row.drift && (
              <button
                type="button"
                onClick={() => setComparing(true)}
                className="text-advisory-text underline underline-offset-2"
              >
                drifted
              </button>
            )}
            {row.lateness?.late && (
              <Hint text={`Its newest row is of ${moment(row.lateness.since)}; it may be ${row.lateness.allowed} old.`}>
                <span tabIndex={0} className="text-advisory-text">
                  late
                </span>
              </Hint>
            )}
            {row.comment && <span className="min-w-0 truncate text-small text-soft">{row.comment}</span>}
          </span>
          {comparing && row.drift && (
            <DriftSheet
              server={server}
              table={row.table}
              drift={row.drift}
              comparedAt={row.comparedAt}
              reason={draftReason}
              onClose={() => setComparing(false)}
            />
          )}
        </td>
        <td className="px-3 text-right">
          <button
            type="button"
            aria-expanded={open}
            aria-label={`Columns of ${row.table}`}
            onClick={onToggle}
            className="font-mono text-small text-plan underline underline-offset-2"
          >
            {columns.length}
          </button>
        </td>
        <td className="px-3 text-right font-mono text-small">{count(row.rows)}</td>
        <td className="px-3">
          {last ? (
            <span className="flex gap-2">
              {last.state !== 'done' && <StepWord state={last.state} />}
              <Link to={address.run(slug, last.run)} className="hover:text-plan hover:underline">
                {ago(last.at)}
              </Link>
            </span>
          ) : (
            <span className="text-advisory-text">never</span>
          )}
        </td>
        <td className="px-3 text-right font-mono text-small">{count(last?.rowsOut)}</td>
        <td className="px-3 text-right font-mono text-small">{count(last?.rowsIn)}</td>
        <td className="px-3 text-right font-mono text-small">{duration(last?.milliseconds)}</td>
        <td className="px-3 text-right">
          <Button tone="quiet" aria-label={`Bring in ${row.table}`} {...(reason ? { reason } : {})} onClick={onBring}>
            Bring in
          </Button>
        </td>
      </tr>
      {last?.error && (
        <tr className="border-b border-line">
          <td colSpan={8} className="px-3 py-1.5 pl-9 text-broken">
            {last.error.message} {last.error.detail}
          </td>
        </tr>
      )}
      {open && (
        <tr className="border-b border-line bg-raised">
          <td colSpan={8} className="px-3 pt-1 pb-2 pl-9">
            <ul className="flex flex-wrap gap-x-5 gap-y-1">
              {columns.map((c) => (
                <li key={c.name} className="flex items-center gap-1.5">
                  {c.name} <span className="font-mono text-small text-soft">{c.type}</span> {c.isKey && <Tag>key</Tag>}
                </li>
              ))}
            </ul>
          </td>
        </tr>
      )}
    </>
  );
}

/** The clock of the stand-in harbour; shown only where there is one. */
function Clock() {
  const { data } = useHarbourQuery();
  const person = usePerson();
  const [advance, { isLoading }] = useAdvanceMutation();
  const tell = useTell();
  if (!data?.date) return null;
  const move = (days: number) =>
    void advance(days)
      .unwrap()
      .then((d) =>
        tell.say(
          `It is ${d.date} in Saltmere`,
          'New calls, corrections and changed vessels are in port_ops. Bring them in.',
        ),
      )
      .catch(tell.problem);
  const reason = mayAct(person, 'editor') ? undefined : `Only editors can move the clock; you are a ${person.role}.`;
  return (
    <section
      aria-label="The harbour’s clock"
      className="flex items-center gap-4 border border-dashed border-rule px-4 py-2.5"
    >
      <div>
        <h2 className="caps">Stand-in: the harbour’s clock</h2>
        <p>
          It is <span className="font-mono">{data.date}</span> in Saltmere, day {data.day} of the demo. Moving on writes{' '}
          {plural(1, 'day')} of new calls, corrections and late rows into port_ops.
        </p>
      </div>
      <span className="flex-1" />
      <Button disabled={isLoading} {...(reason ? { reason } : {})} onClick={() => move(1)}>
        Move on a day
      </Button>
      <Button disabled={isLoading} {...(reason ? { reason } : {})} onClick={() => move(7)}>
        A week
      </Button>
    </section>
  );
}
