import { csvField } from '@ouvrage/core/index';
import { shapeOf, type PageColumn } from '@ouvrage/core/look';
import type { Response } from 'express';
import type { SchemaElement } from 'hyparquet';
import { ByteWriter, ParquetWriter } from 'hyparquet-writer';
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { parquetColumn } from './parquet-types.js';

export const EXPORT_FORMATS = ['csv', 'jsonl', 'parquet'] as const;
export type ExportFormat = (typeof EXPORT_FORMATS)[number];

type Batches = AsyncIterable<(string | null)[][]>;
type Chunks = AsyncGenerator<string | Uint8Array>;

export const CONTENT_TYPES: Readonly<Record<ExportFormat, string>> = {
  csv: 'text/csv; charset=utf-8',
  jsonl: 'application/x-ndjson; charset=utf-8',
  parquet: 'application/vnd.apache.parquet',
};

/** Sends rows as a file to be saved. */
export const sinkOf =
  (response: Response, { name, format }: { readonly name: string; readonly format: ExportFormat }) =>
  async (columns: readonly PageColumn[], batches: Batches): Promise<void> => {
    response.setHeader('Content-Type', CONTENT_TYPES[format]);
    response.setHeader('Content-Disposition', `attachment; filename="${name.replace(/[^\w.]/g, '_')}.${format}"`);
    await pipeline(Readable.from(written(format, columns, batches)), response);
  };

/** Rows as a file, chunk by chunk; never more than a batch or a row group is held. */
export function written(format: ExportFormat, columns: readonly PageColumn[], batches: Batches): Chunks {
  switch (format) {
    case 'csv':
      return csv(columns, batches);
    case 'jsonl':
      return jsonLines(columns, batches);
    case 'parquet':
      return parquet(columns, batches);
  }
}

async function* csv(columns: readonly PageColumn[], batches: Batches): Chunks {
  const line = (values: readonly (string | null)[]) => values.map(csvField).join(',') + '\r\n';
  yield line(columns.map((c) => c.name));
  for await (const rows of batches) yield rows.map(line).join('');
}

const JSON_NUMBER = /^-?(0|[1-9]\d*)(\.\d+)?([eE][+-]?\d+)?$/;

function jsonValue(value: string | null, type: string): string {
  if (value === null) return 'null';
  if (type === 'boolean') return value === 't' ? 'true' : 'false';
  if (/^jsonb?$/.test(type)) return value;
  return shapeOf(type) === 'number' && JSON_NUMBER.test(value) ? value : JSON.stringify(value);
}

async function* jsonLines(columns: readonly PageColumn[], batches: Batches): Chunks {
  const names = columns.map((c) => JSON.stringify(c.name));
  for await (const rows of batches)
    yield rows
      .map((r) => `{${r.map((v, i) => `${names[i]!}:${jsonValue(v, columns[i]!.type)}`).join(',')}}\n`)
      .join('');
}

const ROW_GROUP = 20_000;

async function* parquet(columns: readonly PageColumn[], batches: Batches): Chunks {
  const kinds = columns.map(parquetColumn);
  const schema: SchemaElement[] = [{ name: 'root', num_children: columns.length }, ...kinds.map((k) => k.element)];
  const bytes = new ByteWriter();
  const writer = new ParquetWriter({ writer: bytes, schema });
  const taken = () => {
    const chunk = bytes.getBytes().slice();
    bytes.index = 0;
    return chunk;
  };
  let held: (string | null)[][] = [];
  const group = async () => {
    await writer.write({
      columnData: columns.map((c, i) => ({
        name: c.name,
        data: held.map((r) => (r[i] === null ? null : kinds[i]!.of(r[i]!))),
      })),
      rowGroupSize: ROW_GROUP,
    });
    held = [];
    return taken();
  };
  for await (const rows of batches) {
    held.push(...rows);
    if (held.length >= ROW_GROUP) yield await group();
  }
  if (held.length) yield await group();
  await writer.finish();
  yield taken();
}
