import { useCallback } from 'react';
import { useProject } from '../../data/project';
import { useDraftReason } from '../../data/use-draft-reason';
import { useKeepDraftMutation } from '../../data/workspaces';
import { useTell } from '../../shared/toasts';
import type { FileText } from './use-file-text';

/**
 * Puts a statement at the end of a table's definition: into the editor where that is the file, else as a draft.
 * @returns undefined where nothing can be written
 */
export function useDeclare(path: string, file: FileText): ((table: string, statement: string) => void) | undefined {
  const { slug, tables, textOf, drafts } = useProject();
  const [keepDraft] = useKeepDraftMutation();
  const tell = useTell();
  const declare = useCallback(
    async (table: string, statement: string) => {
      const of = tables.get(table)?.path;
      if (of === undefined) return;
      if (of === path) {
        file.setText(withStatement(file.text, statement));
        tell.say('Added to the definition', statement);
        return;
      }
      try {
        const version = drafts.get(of)?.version ?? 0;
        await keepDraft({ slug, path: of, text: withStatement(textOf(of) ?? '', statement), version }).unwrap();
        tell.say(`Draft of ${table} saved`, statement);
      } catch (problem) {
        tell.problem(problem);
      }
    },
    [slug, tables, textOf, drafts, keepDraft, tell, path, file],
  );
  return useDraftReason() === undefined ? (table, statement) => void declare(table, statement) : undefined;
}

const withStatement = (text: string, statement: string): string => `${text.trimEnd()}\n\n${statement}\n`;
