export const inputClass = 'h-field w-full rounded-edge border border-rule bg-raised px-2 text-ink';
