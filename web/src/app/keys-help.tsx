import { Modal } from '../shared/ui/modal';

const KEYS: readonly (readonly [string, string])[] = [
  ['Ctrl K', 'find a table, column, check, run or command'],
  ['Ctrl Enter', 'preview the query in the editor'],
  ['Ctrl S', 'save the draft'],
  ['Ctrl Space', 'complete a name'],
  ['Alt U', 'list all uses of the name at the cursor'],
  ['Ctrl and a click', 'open the table or column that a name means'],
  ['Arrow keys', 'move in lists and rows'],
  ['Tab, Esc', 'Esc, then Tab leaves the editor'],
  ['?', 'this page'],
];

export function KeysHelp({ open, onClose }: { open: boolean; onClose: () => void }) {
  return (
    <Modal title="Keys" open={open} onClose={onClose}>
      <dl className="grid grid-cols-[110px_1fr] gap-y-2">
        {KEYS.map(([key, what]) => (
          <div key={key} className="contents">
            <dt>
              <kbd className="border border-rule bg-raised px-1.5 py-0.5 font-mono text-small">{key}</kbd>
            </dt>
            <dd>{what}</dd>
          </div>
        ))}
      </dl>
    </Modal>
  );
}
