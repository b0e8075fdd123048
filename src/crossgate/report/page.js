"use strict";
(function () {
  var tools = document.getElementById("tools"), search = document.getElementById("search");
  var device = document.getElementById("device"), shown = document.getElementById("shown");
  var rows = Array.prototype.slice.call(document.querySelectorAll(".row"));
  function apply() {
    var words = search.value.toLowerCase().split(/\s+/).filter(Boolean), chosen = device.value, count = 0;
    rows.forEach(function (row) {
      var text = (row.getAttribute("data-text") || "").toLowerCase();
      var devices = row.getAttribute("data-devices");
      var fits = words.every(function (word) { return text.indexOf(word) >= 0; });
      if (chosen) {
        fits = fits && (devices !== null ? devices.split(" ").indexOf(chosen) >= 0 : text.indexOf(chosen.toLowerCase()) >= 0);
      }
      row.hidden = !fits;
      count += fits ? 1 : 0;
    });
    shown.textContent = words.length || chosen ? count + " of " + rows.length + " shown" : "";
  }
  tools.hidden = false;
  search.addEventListener("input", apply);
  device.addEventListener("change", apply);
})();
