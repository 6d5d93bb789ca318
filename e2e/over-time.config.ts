import base from './playwright.config.js';

/** Journeys over an application whose demo has played its past. */
export default { ...base, testDir: './over-time', testIgnore: [] };
