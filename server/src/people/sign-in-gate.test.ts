import { expect, test } from '@jest/globals';
import { pauseAfter } from './sign-in-gate.js';
import { Turns } from '../shared/turns.js';

test('pauses grow once the free attempts are used up, up to five minutes', () =>
  expect([1, 5, 6, 7, 8, 9, 14, 15, 1000].map(pauseAfter)).toEqual([0, 0, 1, 2, 4, 8, 256, 300, 300]));

test('at most two turns of a key and four in all go on at a time, the rest in their order', async () => {
  const turns = new Turns(4, 2, 1000);
  const ends = await Promise.all(['a', 'a', 'b', 'b'].map((key) => turns.turn(key)));
  const came: string[] = [];
  const wait = async (key: string) => {
    const end = await turns.turn(key);
    came.push(key);
    return end;
  };
  const [third, other] = [wait('a'), wait('c')];
  await Promise.resolve();
  expect(came).toEqual([]);
  ends[2]!();
  await other;
  expect(came).toEqual(['c']);
  ends[0]!();
  await third;
  expect(came).toEqual(['c', 'a']);
});

test('who waits longer than the patience gets no turn, and is in nobody’s way afterwards', async () => {
  const turns = new Turns(1, 1, 20);
  const end = await turns.turn('a');
  expect(await turns.turn('a')).toBeUndefined();
  end!();
  expect(await turns.turn('b')).toBeDefined();
});
