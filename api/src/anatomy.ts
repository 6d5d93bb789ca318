import type { Advice, FigureName, Figures, PlanNode, ResultCheck, StepKind, StepLook } from '@ouvrage/core/anatomy';
import type { Instant } from './instant.js';
import type { StepError } from './run.js';

/** A step of a query. */
export interface AnatomyStep {
  readonly id: string;
  readonly kind: StepKind;
  readonly label: string;
  readonly name?: string;
  readonly depth: number;
  readonly inputs: readonly string[];
  /** The range of the author's text, in characters. */
  readonly start: number;
  readonly end: number;
  readonly table?: string;
  readonly join?: 'inner' | 'left' | 'right' | 'full' | 'cross';
  readonly key?: readonly string[];
  /** It has as many rows as these together. */
  readonly rowsOf?: readonly string[];
  readonly why?: string;
  readonly known: Figures;
  readonly looks: readonly StepLook['name'][];
}

/** Where a step is: in the query as it is being written, or in production's. */
export type AnatomySide = 'here' | 'production';

/** One line of a counting, as it comes. */
export type AnatomyLine =
  | {
      readonly kind: 'steps';
      readonly side: AnatomySide;
      readonly steps: readonly AnatomyStep[];
      /** When the rows were as they are counted. */
      readonly asOf: Instant;
      /** How long all counts may take, in seconds, by the planner. */
      readonly seconds: number;
      /** It takes too long to be begun unasked. */
      readonly isHeld: boolean;
      /** The input of which only a sample is read. */
      readonly sampled?: string;
    }
  | {
      readonly kind: 'figures';
      readonly side: AnatomySide;
      readonly figures: readonly { readonly step: string; readonly figure: FigureName; readonly value: number }[];
    }
  | {
      readonly kind: 'failed';
      readonly side: AnatomySide;
      readonly steps: readonly string[];
      readonly error: StepError;
    }
  /** What the contract's checks say of the result: rows at fault, null where it could not be asked. */
  | {
      readonly kind: 'checks';
      readonly side: AnatomySide;
      readonly checks: readonly (ResultCheck & { readonly atFault: number | null })[];
    }
  /** A swap waited for what is read here: counting begins once more. */
  | { readonly kind: 'again' }
  | { readonly kind: 'stopped'; readonly error: StepError }
  | { readonly kind: 'end'; readonly milliseconds: number };

/** How PostgreSQL works a query out. */
export interface PlanAnswer {
  readonly nodes: readonly PlanNode[];
  readonly advice: readonly Advice[];
  readonly steps: readonly AnatomyStep[];
  /** Milliseconds; null of a plan that was not run. */
  readonly executionTime: number | null;
  readonly planningTime: number;
  readonly sql: string;
  /** The time limit that ended the query, in seconds: the plan is that of the planner alone. */
  readonly endedBehind?: number;
}
