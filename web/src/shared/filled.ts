/** Whether a field says more than blanks. */
export const isFilled = (text: string): boolean => text.trim() !== '';
