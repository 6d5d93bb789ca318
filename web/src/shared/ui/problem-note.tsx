import { Button } from './button';
import type { ProblemBody } from '@ouvrage/api/problem';
/** An error: what happened, where, and what to do. */
export function ProblemNote({ problem, again }: { problem: ProblemBody; again?: () => void }) {
  const error = problem['error'] as
    { path?: string; line?: number; column?: number; detail?: string; hint?: string } | undefined;
  return (
    <div role="alert" className="border-l-3 border-broken bg-raised px-3 py-2">
      <p className="font-medium text-broken">
        {problem.title}
        {error?.line !== undefined && (
          <span className="font-mono text-small font-normal text-soft">
            {' '}
            {error.path} line {error.line}, column {error.column}
          </span>
        )}
      </p>
      {[problem.detail, error?.detail]
        .filter((t, i, all) => t && all.indexOf(t) === i)
        .map((t) => (
          <p key={t}>{t}</p>
        ))}
      {again && (
        <Button tone="quiet" onClick={again}>
          Try again
        </Button>
      )}
    </div>
  );
}
