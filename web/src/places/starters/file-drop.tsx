import { useState } from 'react';
import { FileButton, takeFile, type TakenFile } from '../../shared/ui/file-button';

/** Takes a file of values: chosen, dropped, or its text pasted. */
export function FileDrop({
  onText,
}: {
  /** @param name what the file is called, as a name of a table; undefined of pasted text */
  onText: (text: string, name: string | undefined) => void;
}) {
  const [problem, setProblem] = useState<string>();
  const [isOver, setOver] = useState(false);
  const taken = (file: TakenFile | { readonly problem: string }) => {
    if ('problem' in file) return setProblem(file.problem);
    setProblem(undefined);
    onText(file.text, file.name);
  };
  return (
    <div className="flex flex-col gap-2">
      <div
        onDragOver={(e) => {
          e.preventDefault();
          setOver(true);
        }}
        onDragLeave={() => setOver(false)}
        onDrop={(e) => {
          e.preventDefault();
          setOver(false);
          const file = e.dataTransfer.files[0];
          if (file) void takeFile(file).then(taken);
        }}
        className={`flex items-center gap-3 border border-dashed px-4 py-3 ${isOver ? 'border-plan bg-wash' : 'border-rule'}`}
      >
        <FileButton onFile={taken}>Choose a file</FileButton>
        <span className="text-soft">or drop it here: commas, semicolons or tabs, names in the first line</span>
      </div>
      <textarea
        aria-label="Or paste the values here"
        placeholder="or paste the values here"
        rows={2}
        spellCheck={false}
        onChange={(e) => {
          setProblem(undefined);
          if (e.target.value.trim()) onText(e.target.value, undefined);
        }}
        className="w-full border border-rule bg-raised px-2 py-1 font-mono text-small"
      />
      {problem && (
        <p role="alert" className="text-broken">
          {problem}
        </p>
      )}
    </div>
  );
}
