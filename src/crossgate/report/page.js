"use strict";
(function () {
  var tools = document.getElementById("tools"), search = document.getElementById("search");
  var device = document.getElementById("device"), shown = document.getElementById("shown");
  function all(selector, within) {
    return Array.prototype.slice.call((within || document).querySelectorAll(selector));
  }
  var rows = all(".row"), parts = all(".part");
  function apply() {
    var words = search.value.toLowerCase().split(/\s+/).filter(Boolean), chosen = device.value, count = 0;
    function fits(text, devices) {
      text = (text || "").toLowerCase();
      return words.every(function (word) { return text.indexOf(word) >= 0; }) &&
        (!chosen || (devices ? devices.split(" ").indexOf(chosen) >= 0 : text.indexOf(chosen.toLowerCase()) >= 0));
    }
    rows.forEach(function (row) {
      row.hidden = !fits(row.getAttribute("data-text"), row.getAttribute("data-devices"));
      count += row.hidden ? 0 : 1;
    });
    // What has nothing left to show is gone with its heading; of the picture what fits stays bright.
    all("div.block, section").forEach(function (block) {
      var own = all(".row", block);
      if (own.length) {
        block.hidden = (block.classList.contains("row") && block.hidden) ||
          own.every(function (row) { return row.hidden; });
      }
    });
    all("nav a").forEach(function (link) {
      link.parentElement.hidden = document.querySelector(link.getAttribute("href")).hidden;
    });
    parts.forEach(function (part) {
      part.classList.toggle("dim", !fits(part.getAttribute("aria-label"), null));
    });
    shown.textContent = words.length || chosen ? count + " of " + rows.length + " shown" : "";
  }
  tools.hidden = false;
  search.addEventListener("input", apply);
  device.addEventListener("change", apply);
})();
