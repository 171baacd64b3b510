// Before the first paint: the theme somebody chose, else the one the system asks for.
try {
  const chosen = localStorage.getItem("balise.theme");
  if (chosen === "quay" || chosen === "lantern") {
    document.documentElement.setAttribute("data-theme", chosen);
  }
} catch {
  // Storage may be closed to us; the system's setting then decides.
}
