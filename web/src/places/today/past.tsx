import type { PastProgress } from '@ouvrage/api/standin';
import { useHarbourQuery } from '../../data/standin';

const LOOK_MILLISECONDS = 5000;

/** How far the demo's past has been played; nothing once it is there, or where there is none. */
export function Past() {
  const { data } = useHarbourQuery();
  return data?.past ? <Playing past={data.past} /> : null;
}

function Playing({ past: { played, of, error } }: { past: PastProgress }) {
  useHarbourQuery(undefined, { pollingInterval: LOOK_MILLISECONDS });
  return (
    <div role="status" className="border-l-3 border-plan bg-raised px-3 py-1.5">
      <p>
        {error === null
          ? `The demo’s past is being played in the background: day ${played + 1} of ${of}. Everything can be used meanwhile.`
          : `The demo’s past stopped after ${played} of ${of} days: ${error}. It goes on at the next start.`}
      </p>
      <progress className="h-1 w-full accent-plan" value={played} max={of} aria-label="Days played" />
    </div>
  );
}
