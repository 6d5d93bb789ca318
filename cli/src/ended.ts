/** What the program ends with: documented, so that a pipeline can tell them apart. */
export const EXIT = {
  /** All went well. */
  well: 0,
  /** Definitions have errors, checks are broken, or a run did not succeed. */
  broken: 1,
  /** It was called in a wrong way. */
  wrongUse: 2,
  /** The server was not reached, or had an error. */
  notReached: 3,
  /** The server refuses it: a right, an approval, a consent is missing. */
  refused: 4,
} as const;

export type Exit = (typeof EXIT)[keyof typeof EXIT];

/** Why the program ends early, in words for a person. */
export class Ended extends Error {
  constructor(
    readonly code: Exit,
    message: string,
    readonly hint?: string,
  ) {
    super(message);
  }
}

/** What the program reads and writes beside files and the server. */
export interface Surroundings {
  readonly out: (text: string) => void;
  readonly err: (text: string) => void;
  readonly env: Readonly<Record<string, string | undefined>>;
}
