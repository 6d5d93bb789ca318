import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { useNoticesQuery, useReadNoticesMutation, useSendingsQuery } from '../../data/messages';
import { mayAct, usePerson } from '../../data/person';
import { useProject } from '../../data/project';
import { ago, plural } from '../../shared/format';
import { useTell } from '../../shared/toasts';
import { Button } from '../../shared/ui/button';
import { Tag } from '../../shared/ui/tag';

/** Unread messages that are listed; the rest are under Settings. */
const SHOWN = 4;

/** What the person was told and has not read yet. */
export function Notices() {
  const { slug } = useProject();
  const { data } = useNoticesQuery();
  const [read] = useReadNoticesMutation();
  const tell = useTell();
  const unread = data?.notices.filter((n) => n.readAt === null) ?? [];
  if (!data || unread.length === 0) return null;
  const mark = (ids: readonly string[]) => void read(ids).unwrap().catch(tell.problem);
  return (
    <section aria-label="Messages">
      <div className="mb-1 flex items-baseline justify-between">
        <h2 className="caps">
          Messages <span className="font-mono">{data.unread}</span>
        </h2>
        <Button tone="quiet" onClick={() => mark([])}>
          Mark all as read
        </Button>
      </div>
      <ul className="border-t border-line">
        {unread.slice(0, SHOWN).map((n) => (
          <li key={n.id} className="border-b border-line">
            <Link to={n.path} onClick={() => mark([n.id])} className="flex flex-col px-1 py-1.5 hover:bg-wash">
              <span className="flex items-baseline gap-3">
                <span className="min-w-0 flex-1 truncate font-medium" title={n.title}>
                  {n.title}
                </span>
                <Tag tone={n.severity === 'low' ? 'plain' : n.severity === 'medium' ? 'advisory' : 'broken'}>
                  {n.severity}
                </Tag>
                <span className="shrink-0 text-small text-soft">{ago(n.at)}</span>
              </span>
              <span className="text-small text-soft">{n.lines.join(' ')}</span>
            </Link>
          </li>
        ))}
      </ul>
      {unread.length > SHOWN && (
        <p className="pt-1 text-soft">
          and {unread.length - SHOWN} more under{' '}
          <Link className="text-plan underline underline-offset-2" to={address.place(slug, 'settings/messages')}>
            Messages
          </Link>
        </p>
      )}
    </section>
  );
}

/** Messages that could not be delivered within a day; administrators see to their receivers. */
export function GivenUp() {
  const person = usePerson();
  const { slug } = useProject();
  const { data } = useSendingsQuery(undefined, { skip: !mayAct(person, 'administrator') });
  const lost = data?.filter((s) => s.state === 'given up') ?? [];
  if (lost.length === 0) return null;
  return (
    <p className="border-l-3 border-broken bg-raised px-3 py-1.5">
      {plural(lost.length, 'message')} could not be delivered within a day, to{' '}
      {[...new Set(lost.map((s) => s.to))].join(', ')}:{' '}
      <Link className="text-plan underline underline-offset-2" to={address.place(slug, 'settings/sending')}>
        see why
      </Link>
    </p>
  );
}
