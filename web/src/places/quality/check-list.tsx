import type { CheckState } from '@ouvrage/api/quality';
import { count } from '../../shared/format';
import { VerdictMark } from '../../shared/marks';
import { Tag } from '../../shared/ui/tag';

export function CheckList({ checks, current, onChoose }: { checks: readonly CheckState[]; current: string | undefined; onChoose: (id: string) => void }) {
  return (
    <ul>
      {checks.map((c) => (
        <li key={c.id} className="border-b border-line">
          <button
            type="button"
            aria-current={c.id === current ? 'true' : undefined}
            onClick={() => onChoose(c.id)}
            className={`flex w-full items-center gap-2.5 border-l-[3px] px-3 py-1.5 text-left ${c.id === current ? 'border-plan bg-raised' : 'border-transparent hover:bg-wash/60'}`}
          >
            <VerdictMark verdict={c.verdict} />
            <span className="min-w-0 flex-1 truncate" title={c.title}>
              {c.title}
            </span>
            {c.advisory && <Tag tone="advisory">advisory</Tag>}
            {c.tolerate && <Tag>tolerates {c.tolerate}</Tag>}
            <span className="w-12 shrink-0 text-right font-mono text-[12px] text-soft" title="rows at fault">
              {c.verdict === 'not run' ? '–' : count(c.atFault)}
            </span>
          </button>
        </li>
      ))}
    </ul>
  );
}
