// @ts-check
// Light or dark, and how strong the contrast: set before anything is drawn. What was chosen is kept for this browser;
// until then the system's wishes count.

globalThis.LOOK = (() => {
  const root = document.documentElement;
  const dark = matchMedia("(prefers-color-scheme: dark)");
  const strong = matchMedia("(prefers-contrast: more)");
  const kept = (name) => {
    try {
      return localStorage.getItem(name);
    } catch {
      return null; // a browser that keeps nothing
    }
  };
  const apply = () => {
    const theme = kept("theme");
    root.dataset.theme = theme === "light" || theme === "dark" ? theme : dark.matches ? "dark" : "light";
    root.dataset.contrast = kept("contrast") ?? (strong.matches ? "strong" : "usual");
    document.dispatchEvent(new Event("look"));
  };
  const keep = (name, value) => {
    try {
      localStorage.setItem(name, value);
    } catch {
      root.dataset[name] = value;
    }
    apply();
  };
  for (const wish of [dark, strong, matchMedia("(forced-colors: active)")]) wish.addEventListener("change", apply);
  apply();
  return {
    turnTheme: () => keep("theme", root.dataset.theme === "dark" ? "light" : "dark"),
    turnContrast: () => keep("contrast", root.dataset.contrast === "strong" ? "usual" : "strong"),
  };
})();
