import { useProject } from '../../data/project';
import { count } from '../../shared/format';
import { Hatch, VerdictMark } from '../../shared/marks';
import { VirtualList } from '../../shared/ui/virtual-list';
import type { TableSummary } from '../../worker/protocol';

/** More tables than can be drawn at once: one is chosen, and those around it are drawn. */
export function ChooseTable({
  tables,
  filter,
  onChoose,
}: {
  tables: readonly TableSummary[];
  /** What names have to contain. */
  filter: string;
  onChoose: (table: string) => void;
}) {
  const { layerPosition, states } = useProject();
  const wanted = filter.trim().toLowerCase();
  const matching = wanted ? tables.filter((t) => t.fullName.toLowerCase().includes(wanted)) : tables;
  return (
    <div className="flex h-full min-h-0 flex-col">
      <p className="border-b border-line px-3.5 py-2">
        {count(tables.length)} tables are too many to draw at once. Choose one to see what is around it, or fewer steps.
      </p>
      <VirtualList label="Tables" items={matching} keyOf={(t) => t.fullName} height={27} className="flex-1">
        {(t) => (
          <button
            type="button"
            onClick={() => onChoose(t.fullName)}
            className="flex w-full items-center gap-2 border-b border-line/60 px-3.5 py-1 text-left hover:bg-wash"
          >
            <Hatch position={Math.max(0, layerPosition(t.fullName))} />
            <span className="font-medium">{t.fullName}</span>
            <VerdictMark verdict={states.get(t.fullName)?.verdict ?? 'not run'} size={11} />
            <span className="min-w-0 flex-1 truncate text-small text-soft">{t.comment}</span>
          </button>
        )}
      </VirtualList>
    </div>
  );
}
