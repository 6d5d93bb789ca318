import { describe, expect, test } from '@jest/globals';
import { explainOption, optionChoices } from './options-at.js';

/** A text with `|` where the cursor is. */
const at = <T>(marked: string, ask: (text: string, offset: number) => T): T =>
  ask(marked.replace('|', ''), marked.indexOf('|'));
const labels = (marked: string) => at(marked, optionChoices)?.map((c) => c.label);

describe('what can be written in a list of options', () => {
  test.each([
    ['the options of a table', 'create table core.t (a int) with (|)', ['load', 'business_key', 'owner']],
    ['after a comma', 'create table core.t (a int) with (load = merge, |)', ['business_key', 'missing_rows']],
    [
      'policies',
      'create table core.t (a int) with (load = |)',
      ['view', 'rebuild', 'append', 'merge', 'history', 'dated'],
    ],
    ['policies, begun', 'create table core.t (a int) with (load = me|)', ['merge']],
    [
      'the values of another option',
      'create table core.t (a int) with (load = merge, missing_rows = |)',
      ['keep', 'delete', 'flag', 'close'],
    ],
    ['the options of a column', 'create table core.t (a int options (|))', ['role', 'on_change', 'looked_up_by']],
    ['roles', "create table core.t (a int options (role '|'))", ['surrogate key', 'valid from']],
    [
      'the options of a source table',
      'create foreign table landing.t (a int) server s options (|)',
      ['intake', 'watermark', 'pattern'],
    ],
    ['the options of a source column', 'create foreign table landing.t (a int options (|)) server s', ['column_name']],
    ['the options of a check', 'create view checks.c with (|) as select 1', ['advisory', 'tolerate', 'about']],
    ['the options of a job', 'create publication j for table core.t with (|)', ['at', 'after', 'needs', 'retries']],
    [
      'what a job does while it runs',
      'create publication j for table core.t with (when_running = |)',
      ['skip', 'wait'],
    ],
    ['in the second statement', 'set param.a = 1; create table core.t (a int) with (|)', ['load']],
  ])('%s', (_, text, some) => expect(labels(text)).toEqual(expect.arrayContaining(some)));

  test.each([
    ['in the query', 'create table core.t (a int); select | from x'],
    ['among the columns', 'create table core.t (|)'],
    ['in a check', 'create table core.t (a int check (a > |))'],
    ['behind the list', 'create table core.t (a int) with (load = merge)|'],
    ['in a common table expression', 'with x as (|) select 1'],
  ])('nothing %s', (_, text) => expect(labels(text)).toBeUndefined());
});

describe('what a word means', () => {
  test.each([
    ['an option', 'create table core.t (a int) with (lo|ad = merge)', 'load'],
    ['a policy', 'create table core.t (a int) with (load = mer|ge)', 'load merge'],
    ['a role', "create table core.t (a int options (role 'surrogate| key'))", 'role surrogate key'],
    ['a value of another option', "create table core.t (a int) with (owner = 'fle|et')", 'owner fleet'],
  ])('%s', (_, text, title) =>
    expect(at(text, explainOption)).toMatchObject({ title, help: expect.stringMatching(/\.$/) }),
  );

  test.each([
    ['a column', 'create table core.t (a| int) with (load = merge)'],
    ['an option that there is not', 'create table core.t (a int) with (lo| = merge)'],
  ])('nothing of %s', (_, text) => expect(at(text, explainOption)).toBeUndefined());
});
