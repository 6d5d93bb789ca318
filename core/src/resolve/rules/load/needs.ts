import { POLICIES } from '../../../language/policies.js';
import type { LoadRule } from './load.js';

/** Options and columns without which a policy cannot load. */
export const needs: LoadRule = (load) => {
  const { policy } = load.table;
  const rule = POLICIES[policy];
  const hasKey = load.option('business_key') !== undefined;
  for (const option of rule.needs)
    if (!load.option(option))
      load.report(`load = ${policy} needs a ${option.replaceAll('_', ' ')}`, `write ${option} = 'column'`);
  if (rule.businessKey === 'needed' && !hasKey)
    load.report(
      `load = ${policy} needs a business key`,
      "write business_key = 'column', or several with commas between",
    );
  const back = load.option('look_back');
  if (rule.needs.includes('watermark') && back && !hasKey)
    load.report(
      'look_back needs a business key, which tells rows that are there already',
      "write business_key = 'column'",
      back.range,
    );
  for (const role of rule.roles)
    if (!load.withRole(role))
      load.report(`load = ${policy} needs a column with the role ${role}`, `write options (role '${role}') on it`);
  const surrogate = load.withRole('surrogate key');
  if (!surrogate) return;
  if (!rule.stored) load.report('a view cannot hold surrogate keys', 'write load = rebuild', surrogate.range);
  else if (!hasKey && rule.businessKey !== 'needed')
    load.report(`${surrogate.name} needs a business key to number`, "write business_key = 'column'", surrogate.range);
};
