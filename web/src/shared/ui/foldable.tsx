import { ChevronLeft, ChevronRight } from 'lucide-react';
import { useState, type ReactNode } from 'react';

/** Whether a panel is folded, as this browser remembers it. */
function useFolded(name: string): [boolean, (folded: boolean) => void] {
  const key = `folded ${name}`;
  const [folded, setFolded] = useState(() => localStorage.getItem(key) === 'yes');
  const fold = (next: boolean) => {
    if (next) localStorage.setItem(key, 'yes');
    else localStorage.removeItem(key);
    setFolded(next);
  };
  return [folded, fold];
}

/**
 * A panel at the side of a sheet that folds to a strip, so that the sheet has its room.
 * @param width Tailwind's class for the width of the open panel
 */
export function Foldable({
  name,
  side,
  width,
  children,
}: {
  name: string;
  side: 'left' | 'right';
  width: string;
  children: ReactNode;
}) {
  const [folded, fold] = useFolded(name);
  const Icon = (side === 'left') === folded ? ChevronRight : ChevronLeft;
  const word = `${folded ? 'Show' : 'Fold'} the ${name.toLowerCase()}`;
  const edge = side === 'left' ? 'border-r' : 'border-l';
  const button = (
    <button
      type="button"
      aria-expanded={!folded}
      aria-label={word}
      title={word}
      onClick={() => fold(!folded)}
      className={
        folded
          ? 'flex h-full w-full flex-col items-center gap-2 pt-2.5 text-soft hover:bg-sheet hover:text-plan'
          : `group absolute top-1/2 z-20 flex h-10 w-6 -translate-y-1/2 items-center justify-center ${side === 'left' ? '-right-3' : '-left-3'}`
      }
    >
      {folded ? (
        <>
          <Icon size={15} aria-hidden />
          <span className="caps [writing-mode:vertical-rl]">{name}</span>
        </>
      ) : (
        // Easy to hit, and no wider to see than the edge that it is on.
        <span className="flex h-full w-mark items-center justify-center rounded-edge border border-rule bg-raised text-soft group-hover:text-plan">
          <Icon size={11} aria-hidden />
        </span>
      )}
    </button>
  );
  if (folded)
    return (
      <aside aria-label={name} className={`w-7 shrink-0 border-line bg-paper ${edge}`}>
        {button}
      </aside>
    );
  return (
    <aside aria-label={name} className={`relative flex shrink-0 flex-col border-line bg-paper ${edge} ${width}`}>
      {children}
      {button}
    </aside>
  );
}
