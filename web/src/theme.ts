import { useEffect, useState } from "react";

export type Theme = "system" | "light" | "dark";

const night = window.matchMedia("(prefers-color-scheme: dark)");

/** The theme that was chosen, kept in this browser; the page follows it. */
export function useTheme(): [Theme, (t: Theme) => void] {
  const [theme, setTheme] = useState<Theme>(() => (localStorage.getItem("theme") as Theme | null) ?? "system");
  useEffect(() => {
    const apply = () => {
      document.documentElement.dataset.theme = theme === "dark" || (theme === "system" && night.matches) ? "dark" : "light";
    };
    apply();
    localStorage.setItem("theme", theme);
    night.addEventListener("change", apply);
    return () => night.removeEventListener("change", apply);
  }, [theme]);
  return [theme, setTheme];
}
