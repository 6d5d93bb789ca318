/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, expect, test } from '@jest/globals';
import { cleanup, screen, waitFor } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { DeliveryEntry } from '@ouvrage/api/delivery';
import { around, Problem, renderPlace, serve } from '../../testing';

const { Deliveries } = await import('./deliveries');
afterEach(cleanup);

const file = (id: number, of: Partial<DeliveryEntry> = {}): DeliveryEntry =>
  ({
    id,
    file: `rates_${id}.csv`,
    table: 'landing.rate',
    state: 'loaded',
    rows: '1200',
    rejects: '0',
    reason: null,
    milliseconds: 150,
    at: '2026-01-02T00:00:00Z',
    ...of,
  }) as DeliveryEntry;
const show = async (answers: object, reason?: string) => {
  const sent = serve({ ...around('releaser'), ...answers });
  await renderPlace(<Deliveries reason={reason} />);
  return sent;
};

const STATES: readonly (readonly [
  state: DeliveryEntry['state'],
  reason: string | null,
  text: string,
  canRetry: boolean,
])[] = [
  ['loaded', null, 'loaded', false],
  ['empty', null, 'empty: nothing changed', false],
  ['repeated', 'x', 'same content as before: not loaded again', false],
  ['failed', 'line 3 has 2 fields', 'failed', true],
  ['unknown', null, 'failed: no table matches this file name', true],
];
test.each(STATES)('a file that is %s', async (state, reason, text, canRetry) => {
  const sent = await show({
    'GET deliveries': { files: [file(1, { state, reason })], more: false },
    'POST deliveries/1/retry': { run: 1 },
  });
  const row = (await screen.findByText('rates_1.csv')).closest('tr')!;
  expect(row.textContent).toContain(text);
  expect(screen.queryByText(reason ?? 'nothing') !== null).toBe(reason !== null && state !== 'repeated');
  const retry = screen.queryByRole('button', { name: 'Retry' });
  expect(retry !== null).toBe(canRetry);
  if (!retry) return;
  await userEvent.click(retry);
  expect(sent.changed).toEqual([{ method: 'POST', path: 'deliveries/1/retry', body: undefined }]);
});

test('files are searched and narrowed by the server, and earlier ones are asked for', async () => {
  const sent = await show({
    'GET deliveries': { files: [file(8), file(7)], more: true },
    'GET deliveries?before=7': { files: [file(6)], more: false },
  });
  await userEvent.click(await screen.findByRole('button', { name: 'Show earlier files' }));
  expect(await screen.findByText('rates_6.csv')).toBeTruthy();
  await userEvent.type(screen.getByRole('searchbox'), ' ra ');
  await userEvent.selectOptions(screen.getByRole('combobox', { name: 'Result' }), 'failed');
  await waitFor(() => expect(sent.read.at(-1)!.path).toBe('deliveries?search=ra&state=failed'));
});

test('rows set aside are shown with line, column, value and reason, and are saved as a file', async () => {
  await show({
    'GET deliveries': { files: [file(1, { rejects: '2' })], more: false },
    'GET deliveries/1/rejects': {
      rows: [
        ['3', 'rate', 'x', 'is not a number'],
        ['9', 'rate', null, 'is never null'],
      ],
      isFull: false,
    },
  });
  await userEvent.click(await screen.findByRole('button', { name: '2' }));
  expect(await screen.findByText('is not a number')).toBeTruthy();
  expect(screen.getByRole('link', { name: 'Save as CSV' }).getAttribute('href')).toBe('/api/deliveries/1/rejects.csv');
});

test.each<[string, unknown, string]>([
  [
    'none yet',
    { files: [], more: false },
    'No files yet. Put one into the folder, under a name that a pattern matches.',
  ],
  ['an error', new Problem(500, 'The server had an error'), 'The server had an error'],
])('%s', async (_, answer, text) => {
  await show({ 'GET deliveries': answer });
  expect(await screen.findByText(text)).toBeTruthy();
});

test('who may not retry a file sees why', async () => {
  await show({ 'GET deliveries': { files: [file(1, { state: 'failed' })], more: false } }, 'Only releasers can');
  expect((await screen.findByRole('button', { name: 'Retry' })).getAttribute('aria-disabled')).toBe('true');
});
