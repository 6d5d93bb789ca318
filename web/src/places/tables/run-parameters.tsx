import { useForm } from 'react-hook-form';
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
  const { register, handleSubmit } = useForm({ defaultValues: { values: summary.parameters.map((p) => p.value) } });
  const run = ({ values }: { values: readonly string[] }) => {
    onRun(
      Object.fromEntries(summary.parameters.flatMap((p, i) => (values[i] === p.value ? [] : [[p.name, values[i]!]]))),
    );
    onClose();
  };
  return (
    <Modal title={`Run ${table} with other parameters`} open onClose={onClose}>
      <form className="flex flex-col gap-3" onSubmit={(e) => void handleSubmit(run)(e)}>
        {summary.parameters.map((p, i) => (
          <label key={p.name} className="flex flex-col gap-1">
            <span className="font-mono text-small">param.{p.name}</span>
            <input maxLength={1000} className={`${inputClass} font-mono text-small`} {...register(`values.${i}`)} />
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
