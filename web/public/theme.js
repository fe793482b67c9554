// Before the first paint, so that a dark page never flashes light.
const kept = localStorage.getItem("tarnfell-theme");
const dark = kept ? kept === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
document.documentElement.dataset.theme = dark ? "dark" : "light";
