import { useState } from 'react';
import { useProject } from '../../data/project';
import { Empty } from '../../shared/ui/empty';
import { CheckDetail } from '../quality/check-detail';
import { CheckList } from '../quality/check-list';

/** The checks of one table. */
export function ChecksFacet({ table }: { table: string }) {
  const { checks } = useProject();
  const own = checks.filter((c) => c.table === table);
  const [chosen, setChosen] = useState<string>();
  const current = own.find((c) => c.id === chosen) ?? own.find((c) => c.verdict === 'broken') ?? own.find((c) => c.verdict === 'advisory') ?? own[0];
  if (!current) {
    return (
      <Empty title="Nothing is checked here yet">
        <p>Declare columns and constraints in a contract (create table … before the query), or write a query over rows that should not exist in checks/.</p>
      </Empty>
    );
  }
  return (
    <div className="flex h-full min-h-0">
      <div className="w-[330px] shrink-0 overflow-auto border-r border-line">
        <CheckList checks={own} current={current.id} onChoose={setChosen} />
      </div>
      <div className="min-w-0 flex-1 overflow-auto">
        <CheckDetail check={current} />
      </div>
    </div>
  );
}
