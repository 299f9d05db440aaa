// Edits that are not saved are not left by mistake: links, the browser's own buttons and the closing of the page ask
// first. Import this before the router: its listener then comes second and never sees an address that was not wanted.
const question = "There are changes that are not saved. Leave them?";
let dirty = () => false;

window.addEventListener("beforeunload", (e) => {
  if (dirty()) e.preventDefault();
});
window.addEventListener("hashchange", (e) => {
  if (!dirty() || confirm(question)) return;
  e.stopImmediatePropagation();
  history.pushState(history.state, "", e.oldURL);
});

/** guardEdits asks before the page is left while unsaved says so; what it returns ends that. Use it inside $effect. */
export function guardEdits(unsaved: () => boolean): () => void {
  dirty = unsaved;
  return () => void (dirty = () => false);
}
