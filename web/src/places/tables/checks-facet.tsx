import { useState } from 'react';
import { useProject } from '../../data/project';
import { Empty } from '../../shared/ui/empty';
import { VirtualList } from '../../shared/ui/virtual-list';
import { CheckDetail } from '../quality/check-detail';
import { CheckLine } from '../quality/check-line';
import { RunChecks } from '../../shared/run-checks';

/** The checks of one table. */
export function ChecksFacet({ table }: { table: string }) {
  const { checks } = useProject();
  const own = checks.filter((c) => c.table === table);
  const [chosen, setChosen] = useState<string>();
  const current =
    own.find((c) => c.id === chosen) ??
    own.find((c) => c.verdict === 'broken') ??
    own.find((c) => c.verdict === 'advisory') ??
    own[0];
  if (!current) {
    return (
      <Empty title="No checks yet">
        <p>
          Declare columns and constraints in a contract (create table … before the query), or write a query over rows
          that should not exist in checks/.
        </p>
      </Empty>
    );
  }
  return (
    <div className="flex h-full min-h-0">
      <div className="flex w-82.5 shrink-0 flex-col border-r border-line">
        <div className="flex justify-end border-b border-line p-2">
          <RunChecks tables={[table]}>Run checks</RunChecks>
        </div>
        <VirtualList label={`Checks of ${table}`} items={own} keyOf={(c) => c.id} height={34} className="flex-1">
          {(check) => <CheckLine check={check} current={check.id === current.id} onChoose={setChosen} />}
        </VirtualList>
      </div>
      <div className="min-w-0 flex-1 overflow-auto">
        <CheckDetail check={current} />
      </div>
    </div>
  );
}
