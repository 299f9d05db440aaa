// Edits that are not saved are not left by mistake: links, the browser's own buttons and the closing of the page ask first.
const question = "The rule has changes that are not saved. Leave them?";

/** guardEdits asks before the page is left while dirty says so; the returned function ends that. Use it inside $effect. */
export function guardEdits(dirty: () => boolean): () => void {
  const closing = (e: BeforeUnloadEvent) => { if (dirty()) e.preventDefault(); };
  // Capturing, this comes before the router, which therefore does not see an address that was not wanted.
  const leaving = (e: HashChangeEvent) => {
    if (!dirty() || confirm(question)) return;
    e.stopImmediatePropagation();
    history.pushState(history.state, "", e.oldURL);
  };
  window.addEventListener("beforeunload", closing);
  window.addEventListener("hashchange", leaving, true);
  return () => {
    window.removeEventListener("beforeunload", closing);
    window.removeEventListener("hashchange", leaving, true);
  };
}
