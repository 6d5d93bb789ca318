import Markdown, { type Components } from 'react-markdown';
import { Link } from 'react-router';
import remarkGfm from 'remark-gfm';
import { address } from '../data/addresses';
import { useProject, type ProjectView } from '../data/project';
import { linked } from './note-links';

const components: Components = {
  a: ({ href = '', children }) =>
    href.startsWith('/w/') ? (
      <Link to={href} className="font-mono text-small text-plan underline underline-offset-2">
        {children}
      </Link>
    ) : (
      <a href={href} rel="noreferrer" className="text-plan underline underline-offset-2">
        {children}
      </a>
    ),
  h1: ({ children }) => <h2 className="sheet-title border-b border-line pb-1">{children}</h2>,
  h2: ({ children }) => <h3 className="mt-2 font-cond text-lead font-semibold">{children}</h3>,
  h3: ({ children }) => <h4 className="caps mt-2">{children}</h4>,
  ul: ({ children }) => <ul className="list-disc pl-5">{children}</ul>,
  ol: ({ children }) => <ol className="list-decimal pl-5">{children}</ol>,
  code: ({ children }) => <code className="font-mono text-small">{children}</code>,
  pre: ({ children }) => <pre className="overflow-x-auto border border-line bg-raised p-2">{children}</pre>,
  table: ({ children }) => (
    <table className="w-full border border-line text-left [&_td]:px-2 [&_td]:py-0.5 [&_th]:px-2 [&_tr]:border-b [&_tr]:border-line">
      {children}
    </table>
  ),
  img: ({ alt }) => <em>{alt}</em>,
};

/** Where a link of a note leads: a table, a column's way, a check. */
function linkOf({ slug, summary, tables }: ProjectView, name: string): string | undefined {
  const [layer, table, column] = name.split('.');
  const full = `${layer}.${table}`;
  if (layer === 'checks')
    return summary.checks.some((c) => c.id === `checks/${table}`) ? address.check(slug, `checks/${table}`) : undefined;
  const found = tables.get(full);
  if (column === undefined) return found && address.table(slug, full);
  return found?.columns?.some((c) => c.name === column) ? address.trace(slug, { table: full, column }) : undefined;
}

/** A long note of the project; tables, columns and checks in brackets are links. */
export function Note({ text, className = 'max-w-180 p-5' }: { text: string; className?: string }) {
  const project = useProject();
  return (
    <article className={`flex flex-col gap-2 leading-relaxed ${className}`}>
      <Markdown remarkPlugins={[remarkGfm]} components={components}>
        {linked(text, (name) => linkOf(project, name))}
      </Markdown>
    </article>
  );
}
