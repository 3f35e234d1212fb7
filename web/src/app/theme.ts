const KEY = "nexal-theme";

/** Show the theme that was chosen last; dark until one was. */
export function applyTheme(): void {
  document.documentElement.dataset.theme = localStorage.getItem(KEY) ?? "dark";
}

export function toggleTheme(): void {
  const next = document.documentElement.dataset.theme === "bright" ? "dark" : "bright";
  localStorage.setItem(KEY, next);
  applyTheme();
}
