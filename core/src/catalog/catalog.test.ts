import { describe, expect, test } from '@jest/globals';
import { Catalog, POSTGRESQL, postgresql } from './catalog.js';
import { castByCall, chooseFunction, chooseOperator } from './choose.js';
import { baseOf, canBecome, commonType, elementOf, isArray, polymorphic } from './coercion.js';
import { textOfType, typeOfText } from './type-names.js';

/** What a server may have more: types of an own schema, functions and operators over them. */
const catalog = new Catalog(
  [
    POSTGRESQL,
    {
      types: [
        'own.mood E e - own._mood -',
        'own._mood A b own.mood - -',
        'own.positive N d - - int4',
        'own.short S d - - varchar (5)',
        'own.pair C c - own._pair -',
        'own._pair A b own.pair - -',
        'own.list A d - - _int4',
        'own.textrange R r - - text,own.textmultirange',
        'own.textmultirange R m - - own.textrange',
      ].join('\n'),
      casts: 'own.mood int4 a f\nown.pair text e f',
      operators: '+++ own.mood own.mood own.mood\n!!! - own.mood text',
      functions: [
        'own.feel f own.mood text',
        'own.feel f2 int4:a,int4:b,int4:c bool',
        'own.many fv text,_text int4',
        'own.pair_of f int4:x own.pair',
        'own.both f int4 record :int4,named:text',
        'own.total a int4 int8',
      ].join('\n'),
    },
  ],
  ['own'],
);
const call = (name: string, ...types: readonly (string | undefined)[]) =>
  chooseFunction(catalog, { name, args: types.map((type) => ({ type })) });

describe('names are found with their schema, or through the path', () => {
  test.each([
    ['own.mood', 'own.mood'],
    ['mood', 'own.mood'],
    ['int4', 'int4'],
    ['nowhere', undefined],
    ['other.mood', undefined],
  ])('%s', (name, key) => expect(catalog.type(name)?.key).toBe(key));
  test('functions', () => {
    expect(catalog.functions('feel').length).toBe(2);
    expect(catalog.functions('own.feel').length).toBe(2);
    expect(postgresql().functions('feel')).toEqual([]);
  });
  test('output columns without a name are numbered', () => {
    expect(call('own.both', 'int4')!.columns.map((c) => c.name)).toEqual(['column1', 'named']);
  });
});

describe('which function is meant', () => {
  test.each<[string, readonly (string | undefined)[], string | undefined]>([
    ['own.feel', ['own.mood'], 'text'],
    ['own.feel', ['unknown'], undefined],
    ['own.feel', ['int4'], 'bool'],
    ['own.feel', ['int4', 'int4'], 'bool'],
    ['own.feel', ['int4', 'int4', 'int4', 'int4'], undefined],
    ['own.many', ['text', 'text', 'text'], 'int4'],
    ['own.many', ['text'], undefined],
    ['own.many', ['text', 'int4'], undefined],
    ['own.total', ['int2'], 'int8'],
    ['own.total', [undefined], 'int8'],
    ['own.feel', [undefined], undefined],
    ['abs', ['unknown'], 'float8'],
    ['upper', ['unknown'], 'text'],
    ['row_to_json', ['own.pair'], 'json'],
    ['array_append', ['_int4', 'unknown'], '_int4'],
    ['array_append', ['_int4', 'numeric'], '_numeric'],
    ['array_append', ['unknown', 'unknown'], '_text'],
    ['range_merge', ['int4range', 'daterange'], undefined],
    ['range_merge', ['int4range', 'int4range'], 'int4range'],
    ['multirange', ['own.textrange'], 'own.textmultirange'],
    ['unnest', ['own.textmultirange'], 'own.textrange'],
    ['enum_first', ['own.mood'], 'own.mood'],
    ['enum_first', ['int4'], undefined],
  ])('%s(%s)', (name, types, result) => expect(call(name, ...types)?.result).toBe(result));
  test('arguments by name, those with defaults left out', () => {
    const named = (...names: readonly string[]) =>
      chooseFunction(catalog, { name: 'own.feel', args: names.map((name) => ({ type: 'int4', name })) })?.result;
    expect([named('a'), named('a', 'c'), named('c'), named('a', 'x'), named('a', 'a')]).toEqual([
      'bool',
      'bool',
      undefined,
      undefined,
      undefined,
    ]);
  });
  test('a list for the last argument', () => {
    const args = [{ type: 'text' }, { type: '_text' }];
    expect(chooseFunction(catalog, { name: 'own.many', args, variadic: true })?.result).toBe('int4');
    expect(chooseFunction(catalog, { name: 'own.many', args })?.result).toBeUndefined();
  });
  test.each([
    ['int4', 'text', 'int4'],
    ['mood', 'text', 'own.mood'],
    ['text', 'own.pair', undefined],
    ['nowhere', 'text', undefined],
    ['pair', 'text', undefined],
    ['date', 'bool', undefined],
  ])('%s(%s) as a cast', (name, type, key) => expect(castByCall(catalog, { name, args: [{ type }] })).toBe(key));
});

describe('which operator is meant', () => {
  test.each<[string | null, string, string, string | undefined]>([
    ['own.mood', '+++', 'own.mood', 'own.mood'],
    ['own.mood', '+++', 'unknown', 'own.mood'],
    ['unknown', '+++', 'unknown', 'own.mood'],
    [null, '!!!', 'own.mood', 'text'],
    ['own.mood', '!!!', 'own.mood', undefined],
    ['own.positive', '+', 'own.positive', 'int4'],
    ['own.short', '||', 'unknown', 'text'],
    ['own.list', '||', 'int4', '_int4'],
    ['own.mood', '=', 'own.mood', 'bool'],
    ['own.mood', '+', 'int4', undefined],
    ['nummultirange', '@>', 'unknown', 'bool'],
    ['int4', '?', 'int4', undefined],
  ])('%s %s %s', (left, name, right, result) =>
    expect(chooseOperator(catalog, name, left, right)?.result).toBe(result),
  );
  test('where a side is not known, only if all give the same', () => {
    expect(chooseOperator(catalog, '=', undefined, 'int4')?.result).toBe('bool');
    expect(chooseOperator(catalog, '+', undefined, 'int4')?.result).toBeUndefined();
  });
});

describe('what one type can be taken as', () => {
  test.each<[string, string, 'i' | 'a' | 'e', boolean]>([
    ['int4', 'int8', 'i', true],
    ['int8', 'int4', 'i', false],
    ['int8', 'int4', 'a', true],
    ['own.mood', 'int4', 'i', false],
    ['own.mood', 'int4', 'a', true],
    ['own.pair', 'text', 'a', false],
    ['own.pair', 'text', 'e', true],
    ['own.pair', 'record', 'i', true],
    ['int4', 'record', 'i', false],
    ['record', 'own.pair', 'i', true],
    ['_int4', '_int8', 'i', true],
    ['_int8', '_int4', 'i', false],
    ['_int4', 'oidvector', 'i', false],
    ['int4', 'text', 'i', false],
    ['int4', 'text', 'a', true],
    ['text', 'int4', 'a', false],
    ['text', 'int4', 'e', true],
    ['own.positive', 'int8', 'i', true],
    ['unknown', 'own.mood', 'i', true],
    ['nowhere', 'int4', 'e', false],
  ])('%s as %s (%s)', (from, to, context, expected) => expect(canBecome(catalog, from, to, context)).toBe(expected));
  test.each<[readonly (string | undefined)[], string | undefined]>([
    [['int4', 'int8'], 'int8'],
    [['int8', 'int4'], 'int8'],
    [['unknown', 'date'], 'date'],
    [['unknown', 'unknown'], 'text'],
    [['own.positive', 'own.positive'], 'own.positive'],
    [['own.positive', 'int4'], 'int4'],
    [['varchar', 'text'], 'varchar'],
    [['int4', 'text'], undefined],
    [['int4', undefined], undefined],
    [['nowhere', 'int4'], undefined],
    [['date', 'timestamptz', 'timestamp'], 'timestamptz'],
    [[], undefined],
  ])('%s together', (types, expected) => expect(commonType(catalog, types)).toBe(expected));
  test('below domains and inside of lists', () => {
    expect(['own.positive', 'own.list', 'int4', 'nowhere'].map((t) => baseOf(catalog, t))).toEqual([
      'int4',
      '_int4',
      'int4',
      'nowhere',
    ]);
    expect(
      ['own.list', '_int4', 'int2vector', '_record', 'int4', 'point', 'nowhere'].map((t) => elementOf(catalog, t)),
    ).toEqual(['int4', 'int4', 'int2', 'record', undefined, undefined, undefined]);
    expect(['_int4', 'int2vector', 'int4'].map((t) => isArray(catalog.type(t)!))).toEqual([true, false, false]);
  });
  test.each<[readonly string[], readonly string[], string, string | undefined | null]>([
    [['anyelement', 'anyelement'], ['int4', 'int4'], 'anyarray', '_int4'],
    [['anyelement', 'anyelement'], ['int4', 'text'], 'anyarray', null],
    [['anyarray', 'anyelement'], ['_text', 'text'], 'anyelement', 'text'],
    [['anyarray', 'anyelement'], ['_text', 'int4'], 'anyelement', null],
    [['anyrange'], ['daterange'], 'anyelement', 'date'],
    [['anyrange', 'anyelement'], ['daterange', 'int4'], 'anyelement', null],
    [['anymultirange', 'anyrange'], ['nummultirange', 'daterange'], 'anyrange', null],
    [['anymultirange'], ['nummultirange'], 'anyrange', 'numrange'],
    [['anycompatible', 'anycompatible'], ['int4', 'numeric'], 'anycompatiblearray', '_numeric'],
    [['anycompatible', 'anycompatible'], ['int4', 'date'], 'anycompatible', null],
    [['anycompatiblerange', 'anycompatible'], ['numrange', 'int4'], 'anycompatible', 'numeric'],
    [['anycompatiblerange', 'anycompatiblerange'], ['numrange', 'int4range'], 'anycompatible', null],
    [['anycompatible'], ['unknown'], 'anycompatible', 'text'],
    [['anyelement'], ['unknown'], 'anyelement', undefined],
    [['int4'], ['int4'], 'text', 'text'],
  ])('%s of %s gives %s = %s', (declared, actual, asked, expected) => {
    const stands = polymorphic(catalog, declared, actual);
    expect(stands === null ? null : stands(asked)).toBe(expected);
  });
});

describe('types are written and read', () => {
  test.each([
    ['numeric(6,1)', 'numeric', '(6,1)'],
    ['varchar(30)[]', '_varchar', '(30)'],
    ['timestamptz(3)', 'timestamptz', '(3)'],
    ['interval day to second(2)', 'interval', ' day to second(2)'],
    ['double precision', 'float8', ''],
    ['character(1)', 'bpchar', '(1)'],
    ['"bit"', 'bit', ''],
    ['bit varying(5)', 'varbit', '(5)'],
    ['"char"', 'char', ''],
    ['own.mood', 'own.mood', ''],
  ])('%s', (text, key, mod) => {
    const type = typeOfText(text.replace('"bit"', 'bit'));
    expect(type).toEqual({ key, mod });
    expect(textOfType(catalog, type)).toBe(text);
  });
  test('other spellings mean the same', () => {
    expect(
      ['integer[]', 'int', 'decimal(4)', 'character', 'timestamp with time zone', 'int8[]', 'text[][]'].map(
        (t) => typeOfText(t).key,
      ),
    ).toEqual(['_int4', 'int4', 'numeric', 'bpchar', 'timestamptz', '_int8', '_text']);
  });
});
