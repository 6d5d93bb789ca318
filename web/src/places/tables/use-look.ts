import { useMemo } from 'react';
import { useSearchParams } from 'react-router';
import type { Look } from '@ouvrage/api/rows';
export const VIEWS = ['data', 'profile', 'versions'] as const;

type View = (typeof VIEWS)[number];

const ALL: Look = { show: [], filters: [], sort: [] };

/** The look that the address says: a link to it shows a colleague the same rows. */
export function useLook() {
  const [search, setSearch] = useSearchParams();
  const text = search.get('look');
  const look = useMemo((): Look => {
    try {
      return text ? { ...ALL, ...(JSON.parse(text) as Partial<Look>) } : ALL;
    } catch {
      return ALL;
    }
  }, [text]);
  const set = (changes: { look?: Look; view?: View }) =>
    setSearch((before) => {
      const next = new URLSearchParams(before);
      if (changes.look) {
        const empty = changes.look.show.length + changes.look.filters.length + changes.look.sort.length === 0;
        if (empty) next.delete('look');
        else next.set('look', JSON.stringify(changes.look));
      }
      if (changes.view === 'data') next.delete('view');
      else if (changes.view) next.set('view', changes.view);
      return next;
    });
  return { look, view: VIEWS.find((v) => v === search.get('view')) ?? 'data', set };
}
