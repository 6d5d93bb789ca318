import { useState } from 'react';
import { useTakeProductionMutation } from '../../data/workspaces';
import { useProject } from '../../data/project';
import type { ProblemBody } from '@ouvrage/api/problem';
import type { FileConflict } from '@ouvrage/api/project';
import { Diff } from '../../shared/diff';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Button } from '../../shared/ui/button';

/** Files that production changed too: each is settled with one text before a release. */
export function MergeConflict({ conflicts }: { conflicts: readonly FileConflict[] }) {
  const { slug } = useProject();
  const [settled, setSettled] = useState<Readonly<Record<string, string>>>(() =>
    Object.fromEntries(conflicts.map((c) => [c.path, c.mine ?? ''])),
  );
  const [take, { error, isLoading }] = useTakeProductionMutation();
  return (
    <div className="flex min-h-0 flex-1 flex-col gap-3 overflow-auto p-4">
      <h1 className="sheet-title">Production changed these files too</h1>
      <p className="text-soft">
        Production’s text is on the left, yours on the right. Merge each file below; both sides stay in the history.
      </p>
      {conflicts.map((c) => (
        <section key={c.path} className="flex flex-col gap-2">
          <h2 className="font-mono">{c.path}</h2>
          <div className="h-56 border border-line">
            <Diff path={c.path} before={c.theirs ?? ''} after={c.mine ?? ''} sideBySide />
          </div>
          <textarea
            aria-label={`Merged text of ${c.path}`}
            rows={8}
            value={settled[c.path] ?? ''}
            onChange={(e) => setSettled({ ...settled, [c.path]: e.target.value })}
            className="w-full rounded-edge border border-rule bg-raised p-2 font-mono text-small"
          />
          <div className="flex gap-2">
            <Button onClick={() => setSettled({ ...settled, [c.path]: c.theirs ?? '' })}>Use production’s</Button>
            <Button onClick={() => setSettled({ ...settled, [c.path]: c.mine ?? '' })}>Use mine</Button>
          </div>
        </section>
      ))}
      {error && <ProblemNote problem={error as ProblemBody} />}
      <Button
        tone="act"
        disabled={isLoading}
        className="self-start"
        onClick={() => void take({ slug, files: settled })}
      >
        Save and merge production
      </Button>
    </div>
  );
}
