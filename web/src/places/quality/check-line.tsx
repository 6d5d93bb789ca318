import type { CheckState } from '@ouvrage/api/quality';
import { count } from '../../shared/format';
import { VerdictMark } from '../../shared/marks';
import { Tag } from '../../shared/ui/tag';

/** One check with its verdict and how many rows are at fault. */
export function CheckLine({
  check: c,
  current,
  onChoose,
}: {
  check: CheckState;
  current: boolean;
  onChoose: (id: string) => void;
}) {
  return (
    <button
      type="button"
      aria-current={current ? 'true' : undefined}
      onClick={() => onChoose(c.id)}
      className={`flex w-full items-center gap-2.5 border-b border-l-3 border-b-line px-3 py-1.5 text-left ${current ? 'border-l-plan bg-raised' : 'border-l-transparent hover:bg-wash/60'}`}
    >
      <VerdictMark verdict={c.verdict} />
      <span className="min-w-0 flex-1 truncate" title={c.title}>
        {c.title}
      </span>
      {c.advisory && <Tag tone="advisory">advisory</Tag>}
      {c.tolerate && <Tag>tolerates {c.tolerate}</Tag>}
      <span className="w-12 shrink-0 text-right font-mono text-small text-soft" title="rows at fault">
        {c.verdict === 'not run' ? '–' : count(c.atFault)}
      </span>
    </button>
  );
}
