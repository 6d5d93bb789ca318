import { keepsRows } from '@ouvrage/core/language';
import { ChevronDown } from 'lucide-react';
import { DropdownMenu } from 'radix-ui';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { address } from '../../data/addresses';
import { useStartRunMutation } from '../../data/runs';
import { useProject } from '../../data/project';
import { useRunReason } from '../../data/use-draft-reason';
import { useTell } from '../../shared/toasts';
import { ConfirmDestroy } from '../../shared/ui/confirm-destroy';
import { Button } from '../../shared/ui/button';
import { RunParameters } from './run-parameters';

const CHOICES = [
  ['with what it needs', true, false],
  ['with what it feeds', false, true],
  ['with both', true, true],
  ['alone', false, false],
] as const;

/** Runs a table in the workspace; what equals production is read from there and not built again. */
export function RunButton({ table, before }: { table: string; before: () => Promise<void> }) {
  const { slug, isProduction, summary, tables } = useProject();
  const [asking, setAsking] = useState(false);
  const [startingOver, setStartingOver] = useState(false);
  const [start, { isLoading }] = useStartRunMutation();
  const navigate = useNavigate();
  const tell = useTell();
  const policy = tables.get(table)?.policy;
  const stateful = policy !== undefined && policy !== 'intake' && policy !== 'reference' && keepsRows({ policy });
  const run = async (
    upstream: boolean,
    downstream: boolean,
    more: { parameters?: Readonly<Record<string, string>>; startOver?: readonly string[] } = {},
  ) => {
    try {
      await before();
      const made = await start({ slug, tables: [table], upstream, downstream, ...more }).unwrap();
      void navigate(address.run(slug, made.id));
    } catch (error) {
      tell.problem(error);
    }
  };
  const reason = useRunReason();
  return (
    <div className="flex">
      <Button
        tone="act"
        disabled={isLoading}
        {...(reason ? { reason } : {})}
        onClick={() => void run(true, false)}
        className="rounded-r-none"
      >
        Run table
      </Button>
      {reason === undefined && (
        <DropdownMenu.Root>
          <DropdownMenu.Trigger
            aria-label="How much to run"
            className="flex h-control w-6 items-center justify-center rounded-r-edge border border-l-plan-text/40 border-plan bg-plan text-plan-text"
          >
            <ChevronDown size={13} aria-hidden />
          </DropdownMenu.Trigger>
          <DropdownMenu.Portal>
            <DropdownMenu.Content
              align="end"
              sideOffset={4}
              className="z-50 min-w-48 border border-rule bg-raised py-1 shadow-lg"
            >
              {CHOICES.map(([label, up, down]) => (
                <DropdownMenu.Item
                  key={label}
                  onSelect={() => void run(up, down)}
                  className="cursor-pointer px-3 py-1.5 outline-none data-[highlighted]:bg-wash"
                >
                  {label}
                </DropdownMenu.Item>
              ))}
              {summary.parameters.length > 0 && (
                <DropdownMenu.Item
                  onSelect={() => setAsking(true)}
                  className="cursor-pointer border-t border-line px-3 py-1.5 outline-none data-[highlighted]:bg-wash"
                >
                  with other parameters …
                </DropdownMenu.Item>
              )}
              {stateful && (
                <DropdownMenu.Item
                  onSelect={() => setStartingOver(true)}
                  className="cursor-pointer border-t border-line px-3 py-1.5 text-broken outline-none data-[highlighted]:bg-wash"
                >
                  starting over …
                </DropdownMenu.Item>
              )}
            </DropdownMenu.Content>
          </DropdownMenu.Portal>
        </DropdownMenu.Root>
      )}
      {asking && (
        <RunParameters
          table={table}
          onClose={() => setAsking(false)}
          onRun={(parameters) => void run(true, false, { parameters })}
        />
      )}
      <ConfirmDestroy
        title={`Start ${table} over?`}
        what={
          <p>
            This deletes its rows, versions and stored events {isProduction ? 'in production' : 'in this workspace'},
            then reloads it from its query. Members keep their numbers; versions get new ones.
          </p>
        }
        action="Start over"
        open={startingOver}
        onClose={() => setStartingOver(false)}
        onConfirm={() => void run(true, false, { startOver: [table] })}
      />
    </div>
  );
}
