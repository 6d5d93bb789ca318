/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, jest, test } from '@jest/globals';
import { cleanup, render, screen } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { DateField, isDate } from './date-field';

afterEach(cleanup);

describe('a day', () => {
  test.each([
    ['2026-03-01', true],
    ['2024-02-29', true],
    ['2026-02-29', false],
    ['2026-13-01', false],
    ['01.03.2026', false],
    ['03/01/2026', false],
    ['2026-3-1', false],
    ['', false],
  ])('%s: %s', (text, expected) => expect(isDate(text)).toBe(expected));

  test('is handed on once it is one; what is none is told and taken back', async () => {
    const onChange = jest.fn();
    render(<DateField label="first day" value="2026-01-01" onChange={onChange} />);
    const field = screen.getByLabelText<HTMLInputElement>('first day');
    await userEvent.clear(field);
    await userEvent.type(field, '2026-02-3');
    expect(onChange).not.toHaveBeenCalled();
    expect(field.getAttribute('aria-invalid')).toBe('true');
    await userEvent.type(field, '0');
    expect(field.title).toBe('Write the day as 2026-03-01.');
    await userEvent.tab();
    expect(field.value).toBe('2026-01-01');
    await userEvent.clear(field);
    await userEvent.type(field, '2026-02-28');
    expect(onChange).toHaveBeenCalledTimes(1);
    expect(onChange).toHaveBeenCalledWith('2026-02-28');
  });
});
