/** Light or dark: the system's choice unless one was made here. */
export type Theme = "system" | "light" | "dark";

const KEY = "rockrose-theme";

export function theme(): Theme {
  const kept = document.documentElement.dataset.theme;
  return kept === "light" || kept === "dark" ? kept : "system";
}

export function chooseTheme(chosen: Theme): void {
  if (chosen === "system") {
    delete document.documentElement.dataset.theme;
    localStorage.removeItem(KEY);
  } else {
    document.documentElement.dataset.theme = chosen;
    localStorage.setItem(KEY, chosen);
  }
}
