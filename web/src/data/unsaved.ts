/** Text that is typed and not saved, as the browser keeps it for one person and one project. */
export interface TypedText {
  readonly text: string;
  /** The version of the draft that it was begun from; 0 where there was none. */
  readonly base: number;
}

export type TypedTexts = Readonly<Record<string, TypedText>>;

type Store = Pick<Storage, 'getItem' | 'setItem' | 'removeItem'>;

/** Who typed, and in which project. */
export interface Writer {
  readonly person: string;
  readonly project: string;
}

const keyOf = ({ person, project }: Writer) => `unsaved ${project} ${person}`;

const isTyped = (value: unknown): value is TypedText =>
  typeof value === 'object' &&
  value !== null &&
  typeof (value as TypedText).text === 'string' &&
  typeof (value as TypedText).base === 'number';

/** What this person left unsaved in this browser; nothing where what is kept cannot be read. */
export function unsavedOf(writer: Writer, store: Store): TypedTexts {
  try {
    const found = JSON.parse(store.getItem(keyOf(writer)) ?? '{}') as Record<string, unknown>;
    return Object.fromEntries(Object.entries(found).filter((e): e is [string, TypedText] => isTyped(e[1])));
  } catch {
    return {};
  }
}

/** @returns false where the browser has no room for it */
export function keepUnsaved(writer: Writer, texts: TypedTexts, store: Store): boolean {
  try {
    if (Object.keys(texts).length === 0) store.removeItem(keyOf(writer));
    else store.setItem(keyOf(writer), JSON.stringify(texts));
    return true;
  } catch {
    return false;
  }
}
