import { useRef } from 'react';
import { Button } from './button';

/** As long as a draft may be. */
const MOST_BYTES = 2_000_000;

/** A text file that somebody chose or dropped: its text, and its name as a name of a table. */
export interface TakenFile {
  readonly text: string;
  readonly name: string;
}

/** Reads a file of values. @returns why it cannot be taken, where it cannot */
export async function takeFile(file: File): Promise<TakenFile | { readonly problem: string }> {
  if (file.size > MOST_BYTES)
    return {
      problem: `${file.name} has ${(file.size / 1e6).toFixed(1)} MB, and a reference table at most 2: let it be delivered through the drop folder instead.`,
    };
  const text = await file.text();
  if (text.includes('\0')) return { problem: `${file.name} is not a text file: save the sheet as CSV first.` };
  const name = file.name
    .replace(/\.\w+$/, '')
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, '_')
    .replace(/^(?![a-z])/, 't_');
  return { text, name };
}

/** A button that takes a file of values. */
export function FileButton({
  children,
  disabled = false,
  onFile,
}: {
  children: string;
  disabled?: boolean;
  onFile: (taken: Awaited<ReturnType<typeof takeFile>>) => void;
}) {
  const input = useRef<HTMLInputElement>(null);
  return (
    <>
      <Button disabled={disabled} onClick={() => input.current?.click()}>
        {children}
      </Button>
      <input
        ref={input}
        type="file"
        accept=".csv,.tsv,.txt,text/csv"
        aria-label="File of values"
        className="sr-only"
        tabIndex={-1}
        disabled={disabled}
        onChange={(e) => {
          const file = e.target.files?.[0];
          e.target.value = '';
          if (file) void takeFile(file).then(onFile);
        }}
      />
    </>
  );
}
