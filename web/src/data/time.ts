/** Milliseconds that the server's clock for what happens is ahead of this machine's; the demo has a clock of its own. */
let offset = 0;

/** What time it is for what the server says has happened, in milliseconds. */
export const present = (): number => Date.now() + offset;

/** For the answers of the server, each of which says the offset where there is one. */
export function setClockOffset(milliseconds: number): void {
  offset = milliseconds;
}
