import { ConfirmDestroy } from '../../shared/ui/confirm-destroy';
import { Button } from '../../shared/ui/button';
import { useTell } from '../../shared/toasts';
import { useAppDispatch, textTyped } from '../../data/store';
import { useDropDraftMutation } from '../../data/workspaces';
import { readerProblem } from '../../worker/channel';
import { projectWorker } from '../../worker/client';
import { useState } from 'react';
import { useProject } from '../../data/project';
import type { ReactNode } from 'react';
import type { FileText } from './use-file-text';
/** One line over the editor: the file, whose draft it is, and what can be done with it. */
export function FileStrip({
  path,
  file,
  shown = path,
  children,
}: {
  path: string;
  file: FileText;
  /** What the file is called where its folders are known. */
  shown?: string;
  children?: ReactNode;
}) {
  const { slug } = useProject();
  const [dropping, setDropping] = useState(false);
  const [drop] = useDropDraftMutation();
  const dispatch = useAppDispatch();
  const tell = useTell();
  const dropNow = async () => {
    dispatch(textTyped({ key: `${slug}:${path}`, typed: null }));
    if (file.draft) await drop({ slug, path }).unwrap().catch(tell.problem);
  };
  const format = async () => {
    try {
      const answer = await projectWorker.ask<'format'>({ kind: 'format', path, text: file.text });
      if ('text' in answer) file.setText(answer.text);
      else tell.say('The layout stays as it is', answer.problem);
    } catch (error) {
      tell.problem(readerProblem(error as Error));
    }
  };
  return (
    <div className="flex h-control shrink-0 items-center gap-3 px-3.5 text-small text-soft">
      <span className="truncate font-mono" title={path}>
        {shown}
      </span>
      {file.unsaved ? (
        <span className="text-advisory-text">unsaved</span>
      ) : file.draft ? (
        <span className="whitespace-nowrap text-advisory-text">draft by {file.draft.by}</span>
      ) : null}
      <span className="flex-1" />
      {children}
      {file.readOnly ? (
        <span className="min-w-0 truncate" title={file.whyReadOnly}>
          {file.whyReadOnly}
        </span>
      ) : (
        <>
          {path.endsWith('.sql') && (
            <Button tone="quiet" className="px-0!" onClick={() => void format()}>
              Format
            </Button>
          )}
          {(file.unsaved || file.draft) && (
            <Button tone="quiet" onClick={() => setDropping(true)}>
              Discard
            </Button>
          )}
          {file.unsaved && (
            <Button tone="quiet" disabled={file.keeping} onClick={() => void file.keep()}>
              Save draft
            </Button>
          )}
        </>
      )}
      <ConfirmDestroy
        title="Discard the draft?"
        what={<p>What was changed in {path} since the last commit is lost.</p>}
        action="Discard draft"
        open={dropping}
        onClose={() => setDropping(false)}
        onConfirm={() => void dropNow()}
      />
    </div>
  );
}
