import { useEffect, useState } from 'react';
import { useProject } from '../../data/project';
import { projectWorker } from '../../worker/client';
import type { EditImpact } from '../../worker/protocol';
import { ImpactText, isQuiet } from '../tables/edit-impact';

/** What the drafts of a workspace do together: what breaks, whose values and whose rows may change. */
export function DraftsImpact() {
  const { drafts, committedTextOf, summary } = useProject();
  const [impact, setImpact] = useState<EditImpact>();
  useEffect(() => {
    if (drafts.size === 0) return setImpact(undefined);
    let current = true;
    const base = Object.fromEntries([...drafts.keys()].map((path) => [path, committedTextOf(path) ?? null]));
    projectWorker.ask<'drafts'>({ kind: 'drafts', base }).then(
      (found) => current && setImpact(found),
      // What the drafts are is told above; that their effects cannot be told hides nothing of it.
      () => current && setImpact(undefined),
    );
    return () => {
      current = false;
    };
    // The summary changes with each text that it is made from.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [summary]);
  if (!impact || isQuiet(impact)) return null;
  return (
    <div role="note" aria-label="What the drafts change" className="flex flex-col gap-0.5 py-1">
      <ImpactText impact={impact} causes="The drafts cause" />
    </div>
  );
}
