export interface ProblemBody {
  readonly code: string;
  readonly status: number;
  readonly title: string;
  readonly detail?: string;
  readonly [extra: string]: unknown;
}
