import { useState } from 'react';
import { Diff } from '../../shared/diff';
import { Modal } from '../../shared/ui/modal';
import { Button } from '../../shared/ui/button';
import type { FileText } from './use-file-text';

/** Two people edited one file: both texts, and a third that is kept. */
export function Conflict({ path, file }: { path: string; file: FileText }) {
  const { conflict } = file;
  const [together, setTogether] = useState<string>();
  if (!conflict) return null;
  const text = together ?? conflict.mine;
  return (
    <Modal wide title={`${path} was changed by ${conflict.by} in the meantime`} open onClose={file.leaveConflict}>
      <div className="flex flex-col gap-3">
        <p className="text-soft">
          Nothing is lost: theirs is on the left, yours on the right. Choose one, or merge them below.
        </p>
        <div className="h-64 border border-line">
          <Diff path={path} before={conflict.theirs ?? ''} after={conflict.mine} sideBySide />
        </div>
        <label className="flex flex-col gap-1">
          <span className="caps">Merged text</span>
          <textarea
            value={text}
            onChange={(e) => setTogether(e.target.value)}
            rows={8}
            className="w-full rounded-edge border border-rule bg-raised p-2 font-mono text-small"
          />
        </label>
        <div className="flex justify-end gap-2">
          <Button onClick={() => void file.settle(conflict.theirs ?? '')}>Use theirs</Button>
          <Button onClick={() => void file.settle(conflict.mine)}>Use mine</Button>
          <Button tone="act" onClick={() => void file.settle(text)}>
            Save the text below
          </Button>
        </div>
      </div>
    </Modal>
  );
}
