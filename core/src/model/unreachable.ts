/** The end of a switch over a closed union: a new member of the union no longer compiles there. @throws Error if it is reached all the same */
export function unreachable(value: never): never {
  throw new Error(`not expected: ${JSON.stringify(value)}`);
}
