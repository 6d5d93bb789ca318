export const inputClass = 'h-[29px] w-full rounded-[2px] border border-rule bg-raised px-2 text-ink';
