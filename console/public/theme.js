// Before the first paint, so that a chosen theme does not flash.
(function () {
  try {
    var theme = localStorage.getItem("rockrose-theme");
    if (theme === "light" || theme === "dark") document.documentElement.dataset.theme = theme;
  } catch (e) {
    // Without storage the system's choice holds.
  }
})();
