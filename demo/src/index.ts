import { fileURLToPath } from 'node:url';

export {
  harbourAt,
  copyText,
  dateOf,
  hullNumber,
  SIZES,
  FIRST_DAYS,
  DEMO_SEED,
  type HarbourTable,
  type HarbourSize,
} from './harbour.js';

/** The folder of the demo's project files. */
export const PROJECT_FOLDER = fileURLToPath(new URL('../project', import.meta.url));
export { deliveriesOf, type DeliveredFile } from './deliveries.js';
export { BEGUN_WORKSPACE, begunDrafts } from './drafts.js';
export { withTroubles } from './troubles.js';
export { type Call, type Caller } from './past/people.js';
export { type Cast, instantOf, MORNING } from './past/story.js';
export { castOf, playDay, type Stage } from './past/play.js';
