import { useAdvanceMutation, useHarbourQuery } from '../../data/standin';
import { usePerson, whyNot } from '../../data/person';
import { plural } from '../../shared/format';
import { useTell } from '../../shared/toasts';
import { Button } from '../../shared/ui/button';

/** The clock of the stand-in harbour; shown only where there is one. */
export function Clock() {
  const { data } = useHarbourQuery();
  const person = usePerson();
  const [advance, { isLoading }] = useAdvanceMutation();
  const tell = useTell();
  if (!data?.date) return null;
  const move = (days: number) =>
    void advance(days)
      .unwrap()
      .then((d) =>
        tell.say(
          `It is ${d.date} in Saltmere`,
          'New calls, corrections and changed vessels are in port_ops. Bring them in.',
        ),
      )
      .catch(tell.problem);
  const reason = whyNot(person, 'editor', 'move the clock');
  return (
    <section
      aria-label="The harbour’s clock"
      className="flex items-center gap-4 border border-dashed border-rule px-4 py-2.5"
    >
      <div>
        <h2 className="caps">Stand-in: the harbour’s clock</h2>
        <p>
          It is <span className="font-mono">{data.date}</span> in Saltmere, day {data.day} of the demo. Moving on writes{' '}
          {plural(1, 'day')} of new calls, corrections and late rows into port_ops.
        </p>
      </div>
      <span className="flex-1" />
      <Button disabled={isLoading} {...(reason ? { reason } : {})} onClick={() => move(1)}>
        Move on a day
      </Button>
      <Button disabled={isLoading} {...(reason ? { reason } : {})} onClick={() => move(7)}>
        A week
      </Button>
    </section>
  );
}
