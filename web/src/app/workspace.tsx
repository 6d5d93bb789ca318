import { Tooltip } from 'radix-ui';
import { ToastProvider } from '../shared/toasts';
import type { ProblemBody } from '@ouvrage/api/problem';
import { PRODUCTION } from '../data/person';
import { ProjectProvider } from '../data/project';
import { Loading } from '../shared/ui/loading';
import { ProblemNote } from '../shared/ui/problem-note';
import { Frame } from './frame';

/** A workspace: its project, read, and the frame over its places. */
export default function Workspace() {
  return (
    <Tooltip.Provider>
      <ToastProvider>
        <ProjectProvider
          loading={<Loading what="Reading the project" />}
          failed={(problem, again) => <WorkspaceFailed problem={problem} again={again} />}
        >
          <Frame />
        </ProjectProvider>
      </ToastProvider>
    </Tooltip.Provider>
  );
}

function WorkspaceFailed({ problem, again }: { problem: ProblemBody; again: () => void }) {
  return (
    <main className="mx-auto flex h-full max-w-lg flex-col justify-center gap-3 p-6">
      <ProblemNote problem={problem} again={again} />
      <a className="text-plan underline" href={`/w/${PRODUCTION}/today`}>
        Go to production
      </a>
    </main>
  );
}
