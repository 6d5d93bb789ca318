export function Loading({ what }: { what: string }) {
  return (
    <div role="status" className="flex h-full min-h-24 items-center justify-center gap-2 p-6 text-soft">
      <span aria-hidden className="h-3 w-3 animate-spin border border-rule border-t-plan" />
      {what}
    </div>
  );
}
