import { useState } from 'react';
import { useDropDraftMutation, useKeepDraftMutation } from '../data/workspaces';
import { useProject } from '../data/project';
import { Diff } from './diff';
import { useTell } from './toasts';
import { Empty } from './ui/empty';
import { Button } from './ui/button';

/** A file as it is proposed; without a text it goes. */
export interface Proposed {
  readonly path: string;
  readonly before: string | null;
  readonly after: string | null;
}

/** Takes a set of drafts back: those that were there before come back as they were. */
export type Undo = () => Promise<void>;

/** Keeps files as drafts of the workspace; resolves to what takes all of them back, undefined where one was not kept. */
export function useKeepFiles() {
  const { slug, drafts, committedTextOf } = useProject();
  const [keepDraft, { isLoading }] = useKeepDraftMutation();
  const [dropDraft] = useDropDraftMutation();
  const tell = useTell();
  const keep = async (files: readonly Pick<Proposed, 'path' | 'after'>[]): Promise<Undo | undefined> => {
    const versions = new Map<string, number>();
    const takeBack = async () => {
      for (const [path, version] of versions) {
        const before = drafts.get(path);
        // Saved over what was saved here: where somebody has changed it since, nothing of theirs is lost.
        const text = before ? before.text : (committedTextOf(path) ?? '');
        await keepDraft({ slug, path, text, version }).unwrap();
        if (!before) await dropDraft({ slug, path }).unwrap();
      }
    };
    try {
      for (const { path, after } of files) {
        const kept = await keepDraft({ slug, path, text: after, version: drafts.get(path)?.version ?? 0 }).unwrap();
        versions.set(path, kept.version);
      }
    } catch (problem) {
      tell.problem(problem);
      // All of them or none.
      await takeBack().catch(tell.problem);
      return undefined;
    }
    return () => takeBack().then(() => tell.say('Drafts are as they were before'), tell.problem);
  };
  return { keep, keeping: isLoading };
}

/** Files as they would become, to be read before they are kept. */
export function Proposal({
  files,
  onKept,
  onBack,
}: {
  files: readonly Proposed[];
  onKept: (undo: Undo) => void;
  onBack: () => void;
}) {
  const [chosen, setChosen] = useState(0);
  const { keep, keeping } = useKeepFiles();
  const file = files[chosen];
  if (!file)
    return (
      <Empty title="Nothing would change">
        <p>The project already matches the system.</p>
        <Button onClick={onBack}>Back</Button>
      </Empty>
    );
  return (
    <div className="flex flex-col gap-3">
      <div className="flex max-h-24 flex-wrap items-center gap-x-3 gap-y-1 overflow-auto">
        {files.map((f, i) => (
          <button
            key={f.path}
            type="button"
            aria-pressed={i === chosen}
            onClick={() => setChosen(i)}
            className={`font-mono text-small ${i === chosen ? 'font-semibold text-plan' : 'underline'}`}
          >
            {f.path}
          </button>
        ))}
        <span className="text-small text-soft">
          {file.before === null ? 'a new file' : file.after === null ? 'the file goes' : 'changes are marked'}; nothing
          is saved yet
        </span>
      </div>
      <div className="h-part border border-line">
        <Diff path={file.path} before={file.before ?? ''} after={file.after ?? ''} />
      </div>
      <div className="flex justify-end gap-2">
        <Button onClick={onBack}>Back</Button>
        <Button tone="act" disabled={keeping} onClick={() => void keep(files).then((undo) => undo && onKept(undo))}>
          Save as {files.length === 1 ? 'a draft' : 'drafts'}
        </Button>
      </div>
    </div>
  );
}
