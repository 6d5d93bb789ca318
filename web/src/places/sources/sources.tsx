import { useState } from 'react';
import { useSourcesQuery } from '../../data/sources';
import { useProject } from '../../data/project';
import type { ProblemBody } from '@ouvrage/api/problem';
import type { SourceSystem } from '@ouvrage/api/source';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Loading } from '../../shared/ui/loading';
import { Empty } from '../../shared/ui/empty';
import { Button } from '../../shared/ui/button';
import { Clock } from './clock';
import { DropFolder } from './drop-folder';
import { ImportTables } from './import-tables';
import { System } from './system';
import { useDraftReason } from '../../data/use-draft-reason';

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
      <div className="mx-auto flex max-w-295 flex-col gap-5 p-5">
        <div className="flex items-center gap-4">
          <p className="flex-1 text-soft">Where data comes from, and how current each table is.</p>
          <Button tone="act" {...(reason ? { reason } : {})} onClick={() => setImporting(true)}>
            Import tables
          </Button>
        </div>
        {data?.length === 0 && (
          <Empty title="No sources yet">
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

/** Databases first, then what comes in files. */
const inOrder = (systems: readonly SourceSystem[]) =>
  [...systems].sort((a, b) => Number(a.wrapper === 'file_fdw') - Number(b.wrapper === 'file_fdw'));
