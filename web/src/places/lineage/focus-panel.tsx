import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import { ago, rows } from '../../shared/format';
import { VerdictMark } from '../../shared/marks';
import { SectionTitle } from '../../shared/ui/section-title';

/** The table in focus: what it is, what it is made from and what it feeds. */
export function FocusPanel({ table, onFocus }: { table: string; onFocus: (table: string) => void }) {
  const { slug, tables, states, checks, summary } = useProject();
  const chosen = tables.get(table)!;
  const state = states.get(table);
  const readers = summary.tables.filter((t) => t.reads.includes(table)).map((t) => t.fullName);
  const own = checks.filter((c) => c.table === table && (c.verdict === 'broken' || c.verdict === 'advisory'));
  const list = (names: readonly string[], none: string) =>
    names.length === 0 ? (
      <p className="text-soft">{none}</p>
    ) : (
      <ul>
        {names.map((n) => (
          <li key={n}>
            <button
              type="button"
              onClick={() => onFocus(n)}
              className="flex min-h-6 items-center gap-2 hover:text-plan hover:underline"
            >
              <VerdictMark verdict={states.get(n)?.verdict ?? 'not run'} size={11} /> {n}
            </button>
          </li>
        ))}
      </ul>
    );
  return (
    <aside
      aria-label={table}
      className="flex w-72.5 shrink-0 flex-col gap-4 overflow-auto border-l border-line bg-paper p-4"
    >
      <header>
        <h2 className="sheet-title">{table}</h2>
        {chosen.comment && <p className="mt-1">{chosen.comment}</p>}
        <p className="mt-1 text-small text-soft">
          {chosen.policy}, {state?.rows ? `${rows(state.rows)}` : 'rows not counted'}, loaded {ago(state?.loadedAt)}
        </p>
        <p className="flex gap-4">
          <Link to={address.table(slug, table)} className="text-plan underline">
            Open the bench
          </Link>
          <Link to={address.table(slug, table, 'trace')} className="text-plan underline">
            Trace its columns
          </Link>
        </p>
      </header>
      {chosen.columns && chosen.columns.length > 0 && (
        <section className="flex flex-col gap-1">
          <SectionTitle>Columns</SectionTitle>
          <ul>
            {chosen.columns.map((c) => (
              <li key={c.name} className="flex min-h-6 items-baseline gap-2">
                <Link
                  to={address.way(slug, { table, column: c.name })}
                  className="min-w-0 truncate text-plan underline"
                  title={`Draw the way of ${c.name}`}
                >
                  {c.name}
                </Link>
                <span className="min-w-0 flex-1 truncate text-right font-mono text-small text-soft">{c.type}</span>
              </li>
            ))}
          </ul>
        </section>
      )}
      <section className="flex flex-col gap-1">
        <SectionTitle>Made from</SectionTitle>
        {list(chosen.reads, chosen.kind === 'source' ? 'a system outside the warehouse' : 'nothing in the project')}
      </section>
      <section className="flex flex-col gap-1">
        <SectionTitle>Feeds</SectionTitle>
        {list(readers, 'nothing else in the project')}
      </section>
      {own.length > 0 && (
        <section className="flex flex-col gap-1">
          <SectionTitle>Failing checks</SectionTitle>
          {own.map((c) => (
            <Link
              key={c.id}
              to={address.check(slug, c.id)}
              className="flex min-h-6 items-center gap-2 hover:text-plan hover:underline"
            >
              <VerdictMark verdict={c.verdict} size={11} /> {c.title}
            </Link>
          ))}
        </section>
      )}
    </aside>
  );
}
