import { POLICIES } from '../../../language/policies.js';
import type { LoadRule } from './load.js';
import { lookBackNeedsKey, needsKey, needsOption, needsRole, nothingToNumber, viewWithKeys } from './messages.js';

/** Options and columns without which a policy cannot load. */
export const needs: LoadRule = (load) => {
  const { policy } = load.table;
  const rule = POLICIES[policy];
  const hasKey = load.option('business_key') !== undefined;
  for (const option of rule.needs) if (!load.option(option)) load.report(needsOption(policy, option));
  if (rule.businessKey === 'needed' && !hasKey) load.report(needsKey(policy));
  const back = load.option('look_back');
  if (rule.needs.includes('watermark') && back && !hasKey) load.report(lookBackNeedsKey, back.range);
  for (const role of rule.roles) if (!load.withRole(role)) load.report(needsRole(policy, role));
  const surrogate = load.withRole('surrogate key');
  if (!surrogate) return;
  if (!rule.stored) load.report(viewWithKeys, surrogate.range);
  else if (!hasKey && rule.businessKey !== 'needed') load.report(nothingToNumber(surrogate.name), surrogate.range);
};
