export { isCron, parseCron, type Cron, type CronField, type CronProblem } from './cron.js';
export { secondsOf } from './length.js';
export { nextStarts, type Schedule, startsBetween } from './starts.js';
export { scheduleWords, zoneWords } from './words.js';
export { isZone, nearestZone, startOfDay } from './zone.js';
