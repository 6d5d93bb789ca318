import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { address } from '../../app/addresses';
import { useAdvanceMutation, useBringInMutation, useHarbourQuery, useSourcesQuery } from '../../app/api';
import { mayAct, PRODUCTION, usePerson, useProject } from '../../app/project';
import type { ProblemBody, SourceSystem } from '../../app/types';
import { ago, count, duration, plural } from '../../shared/format';
import { Hatch } from '../../shared/marks';
import { useTell } from '../../shared/toasts';
import { Button, Empty, Loading, ProblemNote, Tag } from '../../shared/ui';
import { StepWord } from '../runs/step-state';

/** Systems that data comes from, their tables, and when each was last brought in. */
export default function Sources() {
  const { slug } = useProject();
  const { data, error, isLoading, refetch } = useSourcesQuery(slug);
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
        {data?.length === 0 && (
          <Empty title="No source is declared yet">
            <p>Write create server and create foreign table into a file of sources/: names, types and keys as they are in the system.</p>
          </Empty>
        )}
        {data?.map((s) => (
          <System key={s.server} system={s} />
        ))}
        <Clock />
      </div>
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
  // Landing tables are production's own: a workspace reads them from there.
  const target = PRODUCTION;
  const reason = mayAct(person, 'releaser') ? undefined : `Landing tables are production’s: bringing data in needs the role releaser, yours is ${person.role}.`;
  const bring = (names: readonly string[]) =>
    void bringIn({ slug: target, tables: names })
      .unwrap()
      .then((run) => navigate(address.run(slug, run.id)))
      .catch(tell.problem);
  return (
    <section aria-label={system.server} className="border border-rule">
      <header className="flex items-center gap-4 border-b border-rule bg-paper px-4 py-2.5">
        <div>
          <h1 className="sheet-title">{system.server}</h1>
          <p className="font-mono text-[12px] text-soft">
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
        <Button tone="act" disabled={isLoading} {...(reason ? { reason } : {})} onClick={() => bring([])}>
          Bring in all {system.tables.length}
        </Button>
      </header>
      <table className="w-full text-left">
        <thead>
          <tr className="border-b border-rule text-[12px]">
            {['table', 'columns', 'rows', 'last intake', 'rows out', 'rows in', 'took', ''].map((h, i) => (
              <th key={i} className={`px-3 py-1 font-medium ${['rows', 'rows out', 'rows in', 'took', 'columns'].includes(h) ? 'text-right' : ''}`}>
                {h || <span className="sr-only">action</span>}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {system.tables.map((t) => {
            const columns = tables.get(t.table)?.columns ?? [];
            return (
              <SourceRow
                key={t.table}
                row={t}
                columns={columns}
                open={open === t.table}
                onToggle={() => setOpen(open === t.table ? undefined : t.table)}
                reason={reason}
                onBring={() => bring([t.table])}
              />
            );
          })}
        </tbody>
      </table>
    </section>
  );
}

type Row = SourceSystem['tables'][number];
type Columns = readonly { readonly name: string; readonly type?: string; readonly isKey: boolean }[];

function SourceRow({
  row,
  columns,
  open,
  onToggle,
  reason,
  onBring,
}: {
  row: Row;
  columns: Columns;
  open: boolean;
  onToggle: () => void;
  reason: string | undefined;
  onBring: () => void;
}) {
  const { slug } = useProject();
  const { last } = row;
  return (
    <>
      <tr className={`border-b border-line ${open ? 'bg-raised' : ''}`}>
        <td className="px-3 py-1.5">
          <span className="flex items-center gap-2">
            <Hatch position={0} />
            <Link to={address.table(slug, row.table, 'rows')} className="font-medium hover:text-plan hover:underline">
              {row.table}
            </Link>
            {row.comment && <span className="truncate text-[12px] text-soft">{row.comment}</span>}
          </span>
        </td>
        <td className="px-3 text-right">
          <button
            type="button"
            aria-expanded={open}
            aria-label={`Columns of ${row.table}`}
            onClick={onToggle}
            className="font-mono text-[12px] text-plan underline underline-offset-2"
          >
            {columns.length}
          </button>
        </td>
        <td className="px-3 text-right font-mono text-[12px]">{count(row.rows)}</td>
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
        <td className="px-3 text-right font-mono text-[12px]">{count(last?.rowsOut)}</td>
        <td className="px-3 text-right font-mono text-[12px]">{count(last?.rowsIn)}</td>
        <td className="px-3 text-right font-mono text-[12px]">{duration(last?.milliseconds)}</td>
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
                  {c.name} <span className="font-mono text-[12px] text-soft">{c.type}</span> {c.isKey && <Tag>key</Tag>}
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
      .then((d) => tell.say(`It is ${d.date} in Saltmere`, 'New calls, corrections and changed vessels are in port_ops. Bring them in.'))
      .catch(tell.problem);
  const reason = mayAct(person, 'editor') ? undefined : `Your role is ${person.role}: an editor may move the clock.`;
  return (
    <section aria-label="The harbour’s clock" className="flex items-center gap-4 border border-dashed border-rule px-4 py-2.5">
      <div>
        <h2 className="caps">Stand-in: the harbour’s clock</h2>
        <p>
          It is <span className="font-mono">{data.date}</span> in Saltmere, day {data.day} of the demo. Moving on writes {plural(1, 'day')} of new calls,
          corrections and late rows into port_ops.
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
