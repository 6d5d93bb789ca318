import { expect, test } from '@jest/globals';
import { pathOf } from './route-edge';

test('an arrow bends between ranks and is level in those that it passes', () => {
  expect(pathOf({ x: 0, y: 0 }, [], { x: 40, y: 10 })).toBe('M0,0 C20,0 20,10 40,10');
  expect(pathOf({ x: 0, y: 0 }, [{ x: 115, y: 30 }], { x: 230, y: 10 })).toBe(
    'M0,0 C20,0 20,30 40,30 L190,30 C210,30 210,10 230,10',
  );
});
