import { useEffect, useRef } from 'react';
import { plural } from './format';
import { useTell } from './toasts';
import { textsRestored, useAppDispatch, useAppSelector } from '../data/store';
import { keepUnsaved, unsavedOf } from '../data/unsaved';

/**
 * Keeps typed text in the browser while it is not saved: it survives a reload, a crash and the closing of the tab,
 * comes back to the same person only, and leaving with some of it is asked about.
 */
export function useUnsaved(person: string, project: string): void {
  const typed = useAppSelector((s) => s.interface.typed);
  const dispatch = useAppDispatch();
  const tell = useTell();
  const restored = useRef(false);
  const isFull = useRef(false);

  useEffect(() => {
    const before = unsavedOf({ person, project }, localStorage);
    const n = Object.keys(before).length;
    restored.current = true;
    if (n === 0) return;
    dispatch(textsRestored(before));
    tell.say(
      `Unsaved text of ${plural(n, 'file')} restored`,
      `From your last visit: ${Object.keys(before)
        .map((k) => k.slice(k.indexOf(':') + 1))
        .join(', ')}`,
    );
  }, [person, project, dispatch, tell]);

  useEffect(() => {
    if (!restored.current) return;
    const kept = keepUnsaved({ person, project }, typed, localStorage);
    if (!kept && !isFull.current)
      tell.problem({
        title: 'This browser has no room to keep what you type',
        detail: 'Save your drafts: what is unsaved would be lost with this tab.',
      });
    isFull.current = !kept;
  }, [typed, person, project, tell]);

  const hasUnsaved = Object.keys(typed).length > 0;
  useEffect(() => {
    if (!hasUnsaved) return;
    const ask = (event: BeforeUnloadEvent) => event.preventDefault();
    window.addEventListener('beforeunload', ask);
    return () => window.removeEventListener('beforeunload', ask);
  }, [hasUnsaved]);
}
