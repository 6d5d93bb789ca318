/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, expect, test } from '@jest/globals';
import { cleanup, fireEvent, screen } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { useState } from 'react';
import type { PreviewState } from './use-preview';
import { around, renderPlace, serve } from '../../testing';

const { SampleChoice } = await import('./sample-choice');
afterEach(cleanup);

type Sample = PreviewState['sample'];
const INPUTS = ['landing.berth', 'staging.berth'];

/** The choice over a sample that is kept as a preview keeps it. @returns what is kept */
const show = async (): Promise<() => Sample> => {
  let kept: Sample;
  function Choice() {
    const [sample, setSample] = useState<Sample>();
    kept = sample;
    const preview = { running: false, run: () => undefined, stop: () => undefined, sample, setSample };
    return <SampleChoice inputs={INPUTS} preview={preview} />;
  }
  serve(around());
  await renderPlace(<Choice />);
  await userEvent.click(await screen.findByRole('button', { name: 'all rows of its inputs' }));
  return () => kept;
};
const pick = (label: string, option: string) => userEvent.selectOptions(screen.getByLabelText(label), option);

test('a share of the rows of one input, and all of them again', async () => {
  const kept = await show();
  await pick('How much of it', 'about 10 % of its rows');
  expect(kept()).toEqual({ table: 'landing.berth', share: 0.1 });
  expect(screen.getByRole('button', { name: 'a sample of landing.berth', hidden: true })).toBeTruthy();
  await pick('How much of it', 'about 1 % of its rows');
  expect(kept()).toEqual({ table: 'landing.berth', share: 0.01 });
  await pick('How much of it', 'all rows');
  expect(kept()).toBeUndefined();
});

test('another input begins with a tenth of its rows', async () => {
  const kept = await show();
  await pick('Input', 'staging.berth');
  expect(kept()).toEqual({ table: 'staging.berth', share: 0.1 });
});

test('some rows of each value of a column, at least one', async () => {
  const kept = await show();
  await pick('How much of it', 'some rows of each value');
  expect(kept()).toEqual({ table: 'landing.berth', by: ['berth_code'], each: 20 });
  await pick('Column', 'length_m');
  fireEvent.change(screen.getByLabelText('Rows of each value'), { target: { value: '0' } });
  expect(kept()).toEqual({ table: 'landing.berth', by: ['length_m'], each: 1 });
});
