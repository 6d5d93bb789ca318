import { ConfirmDestroy } from '../../shared/ui/confirm-destroy';
import { Button } from '../../shared/ui/button';
import { useTell } from '../../shared/toasts';
import { useAppDispatch, textTyped } from '../../data/store';
import { useDropDraftMutation } from '../../data/workspaces';
import { useState } from 'react';
import { useProject } from '../../data/project';
import type { ReactNode } from 'react';
import type { FileText } from './use-file-text';
/** One line over the editor: the file, whose draft it is, and what can be done with it. */
export function FileStrip({ path, file, children }: { path: string; file: FileText; children?: ReactNode }) {
  const { slug } = useProject();
  const [dropping, setDropping] = useState(false);
  const [drop] = useDropDraftMutation();
  const dispatch = useAppDispatch();
  const tell = useTell();
  const dropNow = async () => {
    dispatch(textTyped({ key: `${slug}:${path}`, typed: null }));
    if (file.draft) await drop({ slug, path }).unwrap().catch(tell.problem);
  };
  return (
    <div className="flex h-control shrink-0 items-center gap-3 px-3.5 text-small text-soft">
      <span className="truncate font-mono">{path}</span>
      {file.unsaved ? (
        <span className="text-advisory-text">unsaved</span>
      ) : file.draft ? (
        <span className="text-advisory-text">draft by {file.draft.by}</span>
      ) : null}
      <span className="flex-1" />
      {children}
      {file.readOnly ? (
        <span className="min-w-0 truncate" title={file.whyReadOnly}>
          {file.whyReadOnly}
        </span>
      ) : (
        <>
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
