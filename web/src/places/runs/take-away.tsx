import { scriptAddress } from '../../data/runs';
import { useProject } from '../../data/project';

/** The SQL that loads some tables, or all of them, to be exported: it runs in psql, without Ouvrage. */
export function TakeAway({ tables, name }: { tables: readonly string[]; name: string }) {
  const { slug } = useProject();
  const of = { tables: tables.join(','), upstream: false };
  return (
    <span className="flex items-center gap-2 text-small whitespace-nowrap text-soft">
      SQL of {name}
      {(['script', 'procedures'] as const).map((form) => (
        <a
          key={form}
          href={scriptAddress(slug, { ...of, form })}
          download={`${slug}, ${name}.${form}.sql`}
          aria-label={`SQL of ${name} as ${form === 'script' ? 'one script' : 'stored procedures'}`}
          className="font-medium text-plan hover:underline"
        >
          {form}
        </a>
      ))}
    </span>
  );
}
