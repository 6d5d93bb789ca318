import { type Call, signIn } from './people.js';
import { type Cast, ended, instantOf, STORY } from './story.js';

/** Until then the night's loads may still begin; they do so as soon as the day is there. */
const START_OF_WORK = '07:00';
/** Nothing of a day is left to do then. */
const END_OF_WORK = '15:00';

/** Where and as whom the past is played. */
export interface Stage {
  /** Of the application, without a path. */
  readonly address: string;
  readonly password: string;
  readonly onCall?: (call: Call) => void;
}

/** Signs in those who do something in the past. @throws Refused where one has another password by now */
export async function castOf({ address, password, onCall }: Stage): Promise<Cast> {
  const of = (name: string) => signIn(address, { name, password }, onCall);
  return { mira: await of('mira'), jonas: await of('jonas') };
}

/**
 * Plays one day of the harbour and the morning after it: its files are delivered, its tables brought in and built,
 * and people do what there is to do. A day that was interrupted is gone on with.
 * @throws Refused, or an Error for a release that fails
 */
export async function playDay(cast: Cast, day: number): Promise<void> {
  const { mira } = cast;
  const now = await mira.get<{ day: number; time: string }>('harbour');
  if (now.day < day) await mira.send('POST', 'harbour/advance', { days: day - now.day });
  const { time } = await mira.get<{ time: string }>('harbour');
  if (isBefore(time, instantOf(day, START_OF_WORK))) {
    await mira.send('POST', 'deliveries/look');
    await ended(mira, await mira.send<{ id: number }>('POST', 'workspaces/production/intake', { tables: [] }));
    const all = { tables: [], upstream: true, downstream: false };
    await ended(mira, await mira.send<{ id: number }>('POST', 'workspaces/production/runs', all));
  }
  for (const { at, play } of STORY.filter((event) => event.day === day)) {
    await clockTo(cast, instantOf(day, at));
    await play(cast);
  }
  await clockTo(cast, instantOf(day, END_OF_WORK));
}

const isBefore = (a: string, b: string) => Date.parse(a) < Date.parse(b);

/** Moves the clock on to a time of the day, if that is still to come. */
async function clockTo(cast: Cast, time: string): Promise<void> {
  const { time: now } = await cast.mira.get<{ time: string }>('harbour');
  if (isBefore(now, time)) await cast.mira.send('PUT', 'harbour/clock', { time });
}
