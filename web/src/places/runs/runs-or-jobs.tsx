import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';

/** Leads from runs to jobs and back. */
export function RunsOrJobs({ shown }: { readonly shown: 'runs' | 'jobs' }) {
  const { slug } = useProject();
  const ways = [
    ['runs', 'Runs', address.place(slug, 'runs')],
    ['jobs', 'Jobs', address.jobs(slug)],
  ] as const;
  return (
    <nav aria-label="Runs and jobs" className="flex gap-3.5">
      {ways.map(([name, title, to]) => (
        <Link
          key={name}
          to={to}
          aria-current={name === shown ? 'page' : undefined}
          className={`border-b-2 ${name === shown ? 'border-plan font-semibold' : 'border-transparent text-soft hover:text-ink'}`}
        >
          {title}
        </Link>
      ))}
    </nav>
  );
}
