import { useState } from 'react';
import { useProject } from '../../data/project';
import { inputClass } from '../../shared/ui/input';
import { Modal } from '../../shared/ui/modal';
import { Button } from '../../shared/ui/button';

/** Values of the project's parameters for one run; what is left alone has its default. */
export function RunParameters({
  table,
  onRun,
  onClose,
}: {
  table: string;
  onRun: (values: Readonly<Record<string, string>>) => void;
  onClose: () => void;
}) {
  const { summary } = useProject();
  const [values, setValues] = useState<Readonly<Record<string, string>>>(() =>
    Object.fromEntries(summary.parameters.map((p) => [p.name, p.value])),
  );
  return (
    <Modal title={`Run ${table} with other parameters`} open onClose={onClose}>
      <form
        className="flex flex-col gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          onRun(
            Object.fromEntries(
              summary.parameters.flatMap((p) => (values[p.name] === p.value ? [] : [[p.name, values[p.name] ?? '']])),
            ),
          );
          onClose();
        }}
      >
        {summary.parameters.map((p) => (
          <label key={p.name} className="flex flex-col gap-1">
            <span className="font-mono text-small">param.{p.name}</span>
            <input
              value={values[p.name] ?? ''}
              maxLength={1000}
              onChange={(e) => setValues({ ...values, [p.name]: e.target.value })}
              className={`${inputClass} font-mono text-small`}
            />
          </label>
        ))}
        <p className="text-small text-soft">
          With what it needs. The values are recorded with the run; tables that use them are rebuilt.
        </p>
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button tone="act" type="submit">
            Run
          </Button>
        </div>
      </form>
    </Modal>
  );
}
