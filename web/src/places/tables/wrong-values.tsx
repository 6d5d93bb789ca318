import type { ReferenceProblem } from '@ouvrage/core/intake';
import { VirtualList } from '../../shared/ui/virtual-list';

/** All values of a reference table that do not fit. */
export function WrongValues({ problems }: { problems: readonly ReferenceProblem[] }) {
  return (
    <VirtualList
      label="Values that do not fit"
      items={problems}
      height={22}
      keyOf={(p) => `${p.row} ${p.column}`}
      className="max-h-40"
    >
      {(p) => (
        <span className="flex gap-3">
          <span className="w-20 shrink-0 font-mono text-small text-soft">row {p.row + 1}</span>
          <span className="w-32 shrink-0 truncate font-mono text-small">{p.column}</span>
          <span className="truncate">{p.message}</span>
        </span>
      )}
    </VirtualList>
  );
}
