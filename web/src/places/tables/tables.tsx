import { Navigate, useParams } from 'react-router';
import { useProject } from '../../data/project';
import { PRODUCTION } from '../../data/person';
import { address } from '../../data/addresses';
import { Empty } from '../../shared/ui/empty';
import { Button } from '../../shared/ui/button';
import { Bench } from './bench';
import { FileSheet } from './file-sheet';
import { TableIndex } from './table-index';

/** The index of tables and files on the left, the bench of one of them on the right. */
export default function Tables() {
  const { table, facet, '*': path } = useParams();
  const project = useProject();
  const chosen = table ? project.tables.get(table) : undefined;
  return (
    <div className="flex h-full min-h-0">
      <TableIndex current={table ?? path} />
      <section className="min-w-0 flex-1 bg-sheet" aria-label={table ?? path ?? 'Tables'}>
        {path ? (
          <FileSheet key={path} path={path} />
        ) : chosen ? (
          <Bench key={chosen.path + chosen.name} table={chosen} facet={facet ?? 'definition'} />
        ) : (
          <NoTable name={table} />
        )}
      </section>
    </div>
  );
}

function NoTable({ name }: { name: string | undefined }) {
  const { slug, summary } = useProject();
  if (name) {
    return (
      <Empty title={`There is no table ${name} here`}>
        <p>
          {slug === PRODUCTION
            ? 'Production does not have it: it may be in a workspace.'
            : 'It may have been renamed, or deleted by a draft.'}
        </p>
        <a href={address.place(slug, 'tables')} className="text-plan underline">
          See all tables
        </a>
      </Empty>
    );
  }
  const first =
    summary.tables.find((t) => t.kind === 'definition' && t.layer === 'core') ??
    summary.tables.find((t) => t.kind === 'definition') ??
    summary.tables[0];
  if (first) return <Navigate replace to={address.table(slug, first.fullName)} />;
  return (
    <Empty title="The project has no tables yet">
      <p>Declare where data comes from in sources/, then write a first definition: a file with one select is a view.</p>
      <Button tone="act" onClick={() => document.getElementById('new-definition')?.click()}>
        New definition
      </Button>
    </Empty>
  );
}
