import type { Agreed } from '@ouvrage/api/agreement';
import { useAgreementsQuery, useAgreeMutation, useWithdrawMutation } from '../data/agreements';
import { useReceiversQuery } from '../data/messages';
import { usePerson } from '../data/person';
import { useProject } from '../data/project';
import { moment } from './format';
import { useTell } from './toasts';
import { Button } from './ui/button';
import { Menu } from './ui/menu';

const ALONE = 'alone';

/** Who has agreed to a check or a contract as it is, and whose agreement has fallen since. */
export function Agreements({ kind, subject }: Agreed) {
  const { slug } = useProject();
  const { displayName, name } = usePerson();
  const { data } = useAgreementsQuery(slug);
  const { data: receivers } = useReceiversQuery();
  const [agree] = useAgreeMutation();
  const [withdraw] = useWithdrawMutation();
  const tell = useTell();
  if (!data) return null;
  const own = data.filter((a) => a.kind === kind && a.subject === subject);
  const mine = own.find((a) => a.person === displayName);
  const desks = receivers?.desks.filter((d) => d.members.includes(name)).map((d) => d.name) ?? [];
  const agreeNow = (desk: string | null) => void agree({ slug, kind, subject, desk }).unwrap().catch(tell.problem);
  return (
    <div className="flex flex-wrap items-center gap-x-3 gap-y-1 text-small">
      {own.map((a) => (
        <span key={a.person} className={a.holds ? 'text-holds-text' : 'text-advisory-text'}>
          {a.holds ? 'agreed by' : 'changed since'} {a.person}
          {a.desk && `, ${a.desk},`} {a.holds ? 'on' : 'agreed on'} {moment(a.at)}
        </span>
      ))}
      {own.length === 0 && <span className="text-soft">agreed by nobody</span>}
      {mine?.holds ? (
        <Button
          tone="quiet"
          className="px-0!"
          onClick={() => void withdraw({ slug, kind, subject }).unwrap().catch(tell.problem)}
        >
          Withdraw
        </Button>
      ) : desks.length > 0 ? (
        <Menu
          className="px-0!"
          items={[...desks.map((d) => [d, `for the ${d}`] as const), [ALONE, 'for myself'] as const]}
          onSelect={(key) => agreeNow(key === ALONE ? null : key)}
        >
          Agree
        </Menu>
      ) : (
        <Button tone="quiet" className="px-0!" onClick={() => agreeNow(null)}>
          Agree
        </Button>
      )}
    </div>
  );
}
