// Another version of the service has other files. A page that asks for one of the last version's is loaded anew, but
// not again and again.
const patience = 10_000;

window.addEventListener("vite:preloadError", (e) => {
  const last = Number(sessionStorage.getItem("renewed") ?? 0);
  if (Date.now() - last < patience) return;
  sessionStorage.setItem("renewed", String(Date.now()));
  e.preventDefault();
  location.reload();
});
