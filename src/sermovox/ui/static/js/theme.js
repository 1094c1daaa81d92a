// Runs before the page is drawn, so that it never flashes in the other colours.
(() => {
  const system = matchMedia("(prefers-color-scheme: dark)");
  const apply = () => {
    const chosen = localStorage.getItem("colours");
    document.documentElement.dataset.bsTheme = chosen ?? (system.matches ? "dark" : "light");
    document.dispatchEvent(new Event("colours"));
  };
  apply();
  system.addEventListener("change", apply);
  document.addEventListener("click", (event) => {
    if (!event.target.closest("[data-switch-colours]")) return;
    const dark = document.documentElement.dataset.bsTheme === "dark";
    localStorage.setItem("colours", dark ? "light" : "dark");
    apply();
  });
})();
