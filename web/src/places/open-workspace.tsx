import type { ProblemBody } from '@ouvrage/api/problem';
import { useForm } from 'react-hook-form';
import { useOpenWorkspaceMutation } from '../data/workspaces';
import { isFilled } from '../shared/filled';
import { Button } from '../shared/ui/button';
import { inputClass } from '../shared/ui/input';
import { Modal } from '../shared/ui/modal';
import { ProblemNote } from '../shared/ui/problem-note';

/** Asks what a new workspace is for, and opens it. */
export function OpenWorkspace({
  open,
  onClose,
  onOpened,
}: {
  open: boolean;
  onClose: () => void;
  onOpened: (slug: string) => void;
}) {
  const { register, handleSubmit, reset, formState } = useForm({ defaultValues: { name: '' } });
  const [make, { error, isLoading }] = useOpenWorkspaceMutation();
  const submit = async ({ name }: { name: string }) => {
    const made = await make(name.trim()).unwrap();
    reset();
    onClose();
    onOpened(made.slug);
  };
  return (
    <Modal title="Open a workspace" open={open} onClose={onClose}>
      <form
        onSubmit={(e) => void handleSubmit((fields) => submit(fields).catch(() => undefined))(e)}
        className="flex flex-col gap-3"
      >
        <p className="text-soft">A separate branch with schemas of its own, starting from production.</p>
        <label className="flex flex-col gap-1">
          What is it for?
          <input
            autoFocus
            required
            maxLength={60}
            placeholder="Berth dues"
            className={inputClass}
            {...register('name', { validate: isFilled })}
          />
        </label>
        {error && <ProblemNote problem={error as ProblemBody} />}
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button tone="act" type="submit" disabled={isLoading || !formState.isValid}>
            Open
          </Button>
        </div>
      </form>
    </Modal>
  );
}
