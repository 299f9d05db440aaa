// Light or dark: what the viewer chose here, or else what their system says.
const key = "ambercellar-theme";

export function applyTheme() {
  const chosen = localStorage.getItem(key);
  const dark = chosen ? chosen === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
  document.documentElement.classList.toggle("dark", dark);
}

export function toggleTheme() {
  localStorage.setItem(key, document.documentElement.classList.contains("dark") ? "light" : "dark");
  applyTheme();
}
