import { createRequire } from 'node:module';
import { readdirSync, readFileSync } from 'node:fs';
import path from 'node:path';
import { pathToFileURL } from 'node:url';
import { parseArgs } from 'node:util';
import { build } from './lib/build.mjs';
import { catalogLines } from './lib/catalog.mjs';
import { cluster } from './lib/corpus-cluster.mjs';
import { regressionSuite } from './lib/corpus-source.mjs';
import { statementsOf } from './lib/psql-text.mjs';
import { main, ROOT, say } from './lib/shell.mjs';

/**
 * `node scripts/corpus.mjs [--file NAME] [--verbose]`: plays the scripts of PostgreSQL's own regression suite in a
 * cluster of its own, and holds what core says of each query (names and types of its columns, wrong names) against what
 * the server describes. Ends with 1 where core says something wrong, or knows less than it has to.
 */
const MOST_UNKNOWN = 60;
const LEAST_TYPED = 0.97;
const PATIENCE = '2s';

const { values } = parseArgs({
  options: { file: { type: 'string' }, verbose: { type: 'boolean' }, keep: { type: 'string' } },
});

const core = (folder) => import(pathToFileURL(path.join(ROOT, `core/dist/${folder}/index.js`)).href);
const pg = createRequire(path.join(ROOT, 'server/package.json'))('pg');

/** Describes a query without running it: the columns' names, types and modifiers. */
function describe(client, sql) {
  return new Promise((resolve, reject) => {
    let fields = [];
    client.query({
      submit(connection) {
        connection.parse({ text: sql, name: '', types: [] }, true);
        connection.describe({ type: 'S', name: '' }, true);
        connection.sync();
      },
      handleRowDescription: (message) => (fields = message.fields),
      handleNoData() {},
      handleParameterDescription() {},
      handleError: reject,
      handleReadyForQuery: () => resolve(fields),
    });
  });
}

/** A server's session with what core asks of it: tables of the search path, and what its catalogs have more. */
class Session {
  constructor(client, { Catalog, POSTGRESQL, typeOfText, shortType }) {
    Object.assign(this, { client, Catalog, POSTGRESQL, typeOfText, shortType, relations: undefined, stale: true });
  }

  changed() {
    this.relations = undefined;
    this.stale = true;
  }

  async catalog() {
    if (!this.stale) return this.known;
    const [{ path: schemas }] = (await this.client.query('select current_schemas(true)::text[] as path')).rows;
    const lines = await catalogLines(
      this.client,
      "n.nspname <> 'pg_catalog' and n.nspname !~ '^pg_toast' and n.nspname <> 'information_schema'",
      { added: true },
    );
    this.builtInLines ??= await catalogLines(this.client, "n.nspname = 'information_schema'");
    const own = Object.fromEntries(
      ['types', 'casts', 'operators', 'functions'].map((k) => [k, [...this.builtInLines[k], ...lines[k]].join('\n')]),
    );
    this.path = schemas;
    this.known = new this.Catalog(
      [this.POSTGRESQL, own],
      schemas.filter((s) => s !== 'pg_catalog'),
    );
    this.stale = false;
    return this.known;
  }

  /** Reads all tables, views and row types again, so that core can be asked at once. */
  async learn() {
    if (this.relations) return;
    this.builtIn ??= await this.read("n.nspname in ('pg_catalog', 'information_schema')");
    this.relations = new Map([
      ...this.builtIn,
      ...(await this.read("n.nspname not in ('pg_catalog', 'information_schema')")),
    ]);
  }

  async read(where) {
    const { rows } = await this.client.query({
      text: `select n.nspname, c.relname, a.attname, format_type(a.atttypid, a.atttypmod)
        from pg_class c join pg_namespace n on n.oid = c.relnamespace
          left join pg_attribute a on a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped
        where c.relkind in ('r', 'c', 'v', 'p', 'm', 'f', 'S') and n.nspname !~ '^pg_toast' and ${where} order by c.oid, a.attnum`,
      rowMode: 'array',
    });
    const relations = new Map();
    for (const [schema, name, column, type] of rows) {
      const key = `${schema}.${name}`;
      if (!relations.has(key))
        relations.set(key, { fields: [], rows: [`${key}.*`], rowType: schema === 'pg_catalog' ? name : key });
      const value = [`${key}.${column}`];
      if (column !== null)
        relations.get(key).fields.push({ name: column, type: this.typeOf(type), value, influence: [], kind: 'copied' });
    }
    return relations;
  }

  /** A relation by its name, without a schema through the path. */
  relation(schema, name) {
    if (schema !== undefined)
      return this.relations.get(
        `${schema === 'pg_temp' ? this.path.find((s) => s.startsWith('pg_temp')) : schema}.${name}`,
      );
    for (const s of this.path) {
      const found = this.relations.get(`${s}.${name}`);
      if (found) return found;
    }
    return this.relations.get(`pg_catalog.${name}`);
  }

  /** A type as the server writes it; one without its schema is found through the path. */
  typeOf(text) {
    const type = this.typeOfText(
      this.shortType(text).replaceAll(/"([^"]*)"/g, (all, n) => (/^(char|bit)$/.test(n) ? all : n)),
    );
    const found = this.known.type(type.key);
    return found ? { ...type, key: found.key } : type;
  }

  /** A type as the server describes it: domains are sent as what they are made from. */
  described(text) {
    let type = this.typeOf(text);
    for (let t = this.known.type(type.key); t?.kind === 'd'; t = this.known.type(type.key))
      type = { key: t.base, mod: t.modifier || type.mod };
    return type;
  }
}

await main(async () => {
  const suite = await regressionSuite();
  if (!suite) return say('corpus: skipped, the source package of PostgreSQL cannot be had here');
  await build(['core', 'server']);
  const [{ Catalog, POSTGRESQL, typeOfText, textOfType }, { resolveColumns }, { loadParser, parseSql, shortType }] =
    await Promise.all(['catalog', 'columns', 'sql'].map(core));
  await loadParser();
  const { connection, stop } = await cluster();
  const totals = { described: 0, right: 0, unknown: 0, wrong: 0, false: 0, columns: 0, typed: 0, wrongTypes: 0 };
  const say1 = (kind, file, sql, more) =>
    values.verbose && say(`${kind} ${file}: ${sql.trim().replaceAll(/\s+/g, ' ').slice(0, 300)}\n    ${more}`);
  const files = readdirSync(path.join(suite, 'sql'))
    .filter((f) => f.endsWith('.sql'))
    .map((f) => f.slice(0, -4));
  const schedule = readFileSync(path.join(suite, 'parallel_schedule'), 'utf8')
    .match(/^test:.*$/gm)
    .flatMap((l) => l.slice(5).trim().split(/\s+/))
    .filter((f) => files.includes(f));
  const order = values.file ? ['test_setup', 'create_index', ...values.file.split(',')] : schedule;
  const formatted = new Map();
  try {
    for (const file of order) {
      const began = Date.now();
      const client = new pg.Client({ ...connection, database: 'regression' });
      client.on('error', () => undefined);
      await client.connect();
      await client.query(
        `set statement_timeout = '${PATIENCE}'; set lock_timeout = '2s'; set datestyle = 'Postgres, MDY'; set intervalstyle = postgres_verbose; set timezone = 'PST8PDT'`,
      );
      const session = new Session(client, { Catalog, POSTGRESQL, typeOfText, shortType });
      const variables = new Map([
        ['PG_ABS_SRCDIR', suite],
        ['PG_LIBDIR', '/nowhere'],
        ['PG_DLSUFFIX', '.so'],
        ['PG_ABS_BUILDDIR', suite],
      ]);
      const text = readFileSync(path.join(suite, 'sql', `${file}.sql`), 'utf8');
      for (const { sql, data } of statementsOf(text, variables)) {
        const node = parseSql(sql).statements[0]?.node;
        if (node && 'SelectStmt' in node && !node.SelectStmt.intoClause) {
          const isAsked = !values.file || values.file.split(',').includes(file);
          const fields = isAsked ? await describe(client, sql).catch(() => undefined) : undefined;
          if (fields) {
            await compare({ file, sql, select: node.SelectStmt, fields, session }).catch((error) =>
              say1('SKIPPED', file, sql, error.message),
            );
          }
        }
        await play(client, sql, data);
        const isQuery =
          node &&
          ('SelectStmt' in node ||
            'ExplainStmt' in node ||
            'InsertStmt' in node ||
            'UpdateStmt' in node ||
            'DeleteStmt' in node) &&
          !node.SelectStmt?.intoClause;
        if (!isQuery || /\bset_config|search_path/i.test(sql)) session.changed();
      }
      await client.end().catch(() => undefined);
      if (values.verbose) say(`played ${file} in ${((Date.now() - began) / 1000).toFixed(1)} s`);
    }
  } finally {
    await stop();
  }

  async function compare({ file, sql, select, fields, session }) {
    totals.described++;
    let catalog = await session.catalog();
    await session.learn();
    const wanted = [];
    for (const f of fields) {
      const key = `${f.dataTypeID} ${f.dataTypeModifier}`;
      if (!formatted.has(key) || f.dataTypeID >= 16384)
        formatted.set(
          key,
          (
            await session.client.query({
              text: 'select format_type($1::oid, $2::integer)',
              values: [f.dataTypeID, f.dataTypeModifier],
              rowMode: 'array',
            })
          ).rows[0][0],
        );
      wanted.push({ name: f.name, type: textOfType(catalog, session.typeOf(formatted.get(key))) });
    }
    let result;
    try {
      result = resolved(resolveColumns, select, { catalog, session });
      if (!result.columns || result.problems.length) {
        // What functions and blocks made meanwhile is not known yet.
        session.changed();
        catalog = await session.catalog();
        await session.learn();
        result = resolved(resolveColumns, select, { catalog, session });
      }
    } catch (error) {
      totals.wrong++;
      return say1('THREW', file, sql, error.stack.split('\n').slice(0, 3).join(' '));
    }
    const { columns, problems } = result;
    if (problems.length) {
      totals.false++;
      say1('FALSE', file, sql, JSON.stringify(problems[0]));
    }
    totals.columns += wanted.length;
    if (!columns) {
      totals.unknown++;
      return say1('UNKNOWN', file, sql, wanted.map((w) => `${w.name} ${w.type}`).join(', '));
    }
    if (columns.map((c) => c.name).join('\n') !== wanted.map((w) => w.name).join('\n')) {
      totals.wrong++;
      return say1(
        'WRONG',
        file,
        sql,
        `${columns.map((c) => c.name).join(', ')} instead of ${wanted.map((w) => w.name).join(', ')}`,
      );
    }
    totals.right++;
    for (const [i, c] of columns.entries()) {
      if (c.type === undefined) {
        say1('UNTYPED', file, sql, `${c.name} ${wanted[i].type}`);
        continue;
      }
      totals.typed++;
      if (textOfType(catalog, session.described(c.type)) !== wanted[i].type) {
        totals.wrongTypes++;
        say1('TYPE', file, sql, `${c.name}: ${c.type} instead of ${wanted[i].type}`);
      }
    }
  }

  say(
    `corpus: ${totals.described} queries described: ${totals.right} column lists right, ${totals.wrong} wrong, ${totals.unknown} unknown, ${totals.false} with a false diagnostic; ` +
      `${totals.columns} columns: types of ${totals.typed} (${((100 * totals.typed) / totals.columns).toFixed(1)} %), ${totals.wrongTypes} of them wrong`,
  );
  const fails =
    totals.wrong > 0 ||
    totals.false > 0 ||
    totals.wrongTypes > 0 ||
    totals.unknown > MOST_UNKNOWN ||
    totals.typed < LEAST_TYPED * totals.columns;
  process.exit(fails && !values.file ? 1 : 0);
});

/** What core says of a query, in what a session sees. */
function resolved(resolveColumns, select, { catalog, session }) {
  return resolveColumns(select, {
    catalog,
    relation: (layer, name) => session.relation(layer, name),
    declaredFunction: () => undefined,
  });
}

/** Runs a statement, or what of it can be run; that it fails is part of the suite. */
async function play(client, sql, data) {
  try {
    if (data === undefined) await client.query(sql);
    else await copyIn(client, sql, data);
  } catch {
    // Many statements of the suite are there to fail.
  }
}

function copyIn(client, sql, data) {
  return new Promise((resolve, reject) => {
    client.query({
      submit: (connection) => connection.query(sql),
      handleCopyInResponse(connection) {
        connection.sendCopyFromChunk(Buffer.from(data));
        connection.endCopyFrom();
      },
      handleRowDescription() {},
      handleDataRow() {},
      handleCommandComplete() {},
      handleError: reject,
      handleReadyForQuery: resolve,
    });
  });
}
