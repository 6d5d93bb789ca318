import { useSourcesQuery } from '../../app/api';
import { useProject } from '../../app/project';
import { SectionTitle } from '../../shared/ui';

/** Where the project's servers really are. */
export function Connections() {
  const { slug } = useProject();
  const { data: systems = [] } = useSourcesQuery(slug);
  return (
    <section className="flex flex-col gap-2">
      <SectionTitle aside="secrets are encrypted and never shown">Where servers really are</SectionTitle>
      <table className="w-full border border-line text-left">
        <thead>
          <tr className="border-b border-rule text-[12px]">
            <th className="px-3 py-1 font-medium">server</th>
            <th className="px-3 font-medium">database</th>
            <th className="px-3 font-medium">user</th>
          </tr>
        </thead>
        <tbody>
          {systems.map((s) => (
            <tr key={s.server} className="border-b border-line">
              <td className="px-3 py-1 font-medium">{s.server}</td>
              <td className="px-3 font-mono text-[12px]">
                {s.connection ? `${s.connection.host}:${s.connection.port}/${s.connection.database}` : 'not bound'}
              </td>
              <td className="px-3 font-mono text-[12px]">{s.connection?.user ?? '–'}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
