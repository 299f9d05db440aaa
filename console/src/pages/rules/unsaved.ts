// Edits that are not saved are not left by mistake: links and the closing of the page ask first.
const question = "The rule has changes that are not saved. Leave them?";

/** guardEdits asks before the page is left while dirty says so; the returned function ends that. Use it inside $effect. */
export function guardEdits(dirty: () => boolean): () => void {
  const closing = (e: BeforeUnloadEvent) => { if (dirty()) e.preventDefault(); };
  const following = (e: MouseEvent) => {
    const link = (e.target as Element).closest?.("a[href^='#']");
    if (link && dirty() && !confirm(question)) {
      e.preventDefault();
      e.stopPropagation();
    }
  };
  window.addEventListener("beforeunload", closing);
  document.addEventListener("click", following, true);
  return () => {
    window.removeEventListener("beforeunload", closing);
    document.removeEventListener("click", following, true);
  };
}
