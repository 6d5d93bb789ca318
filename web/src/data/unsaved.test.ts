import { expect, test } from '@jest/globals';
import { keepUnsaved, unsavedOf } from './unsaved';

class FakeStore {
  readonly kept = new Map<string, string>();
  constructor(private readonly room = Infinity) {}
  getItem(key: string): string | null {
    return this.kept.get(key) ?? null;
  }
  setItem(key: string, value: string): void {
    if (value.length > this.room) throw new Error('QuotaExceededError');
    this.kept.set(key, value);
  }
  removeItem(key: string): void {
    this.kept.delete(key);
  }
}

const mira = { person: 'mira', project: 'a1' };
const texts = { 'berth-dues:core/x.sql': { text: 'select 1', base: 3 } };

test('what one person typed comes back with the version that it was begun from, and to nobody else', () => {
  const store = new FakeStore();
  expect(keepUnsaved(mira, texts, store)).toBe(true);
  expect(unsavedOf(mira, store)).toEqual(texts);
  expect(unsavedOf({ ...mira, person: 'jonas' }, store)).toEqual({});
  expect(unsavedOf({ ...mira, project: 'b2' }, store)).toEqual({});
});

test('nothing is kept once all is saved', () => {
  const store = new FakeStore();
  keepUnsaved(mira, texts, store);
  keepUnsaved(mira, {}, store);
  expect(store.kept.size).toBe(0);
});

test.each([
  ['no JSON', '{'],
  ['other values', '{"a":1,"b":{"text":2,"base":0},"c":null}'],
])('%s is nothing', (_, kept) => {
  const store = new FakeStore();
  store.setItem('unsaved a1 mira', kept);
  expect(unsavedOf(mira, store)).toEqual({});
});

test('a full browser is reported', () => expect(keepUnsaved(mira, texts, new FakeStore(10))).toBe(false));
