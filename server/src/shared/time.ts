import { CreateDateColumn } from 'typeorm';

/** Milliseconds that the demo's clock is ahead of the real one; 0 wherever no past was played. */
let offset = 0;

/**
 * What time it is for all that a person reads as having happened: runs, verdicts, releases, remarks, incidents,
 * deliveries, messages. In the demo it is the demo's clock, which is ahead of or behind the real one by an offset.
 * Sessions, tokens, limits and the log use the real time.
 */
export const currentTime = (): Date => new Date(Date.now() + offset);

export const clockOffset = (): number => offset;

/** For whoever keeps the offset (`ClockService`) alone. */
export function setClockOffset(milliseconds: number): void {
  offset = milliseconds;
}

/** A column that says when its row was made, by the same clock: the database function `clock_now` adds the offset. */
export const MadeAt = (name?: string): PropertyDecorator =>
  CreateDateColumn({ type: 'timestamptz', default: () => 'clock_now()', ...(name === undefined ? {} : { name }) });
