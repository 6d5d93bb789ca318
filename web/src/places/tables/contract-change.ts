import type { ContractEdit } from '@ouvrage/core/assist';

/** Makes edits to the contract's text. */
export type Change = (...edits: ContractEdit[]) => void;
