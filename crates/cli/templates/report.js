"use strict";
document.querySelectorAll("section.table").forEach(function (section) {
  var table = section.querySelector("table");
  if (!table) { return; }
  var body = table.tBodies[0], rows = Array.prototype.slice.call(body.rows);
  if (rows.length > 8) {
    var input = document.createElement("input"), label = document.createElement("label");
    input.type = "search";
    label.textContent = "Show only rows with ";
    label.appendChild(input);
    section.insertBefore(label, section.children[1]);
    input.addEventListener("input", function () {
      var wanted = input.value.toLowerCase();
      rows.forEach(function (row) { row.hidden = row.textContent.toLowerCase().indexOf(wanted) < 0; });
    });
  }
  Array.prototype.forEach.call(table.tHead.rows[0].cells, function (head, at) {
    var button = document.createElement("button"), up = false;
    button.type = "button";
    button.textContent = head.textContent;
    head.textContent = "";
    head.appendChild(button);
    button.addEventListener("click", function () {
      up = !up;
      head.setAttribute("aria-sort", up ? "ascending" : "descending");
      var key = function (row) { var cell = row.cells[at]; return cell.dataset.sort || cell.textContent; };
      rows.sort(function (a, b) { return key(a).localeCompare(key(b), undefined, { numeric: true }) * (up ? 1 : -1); });
      rows.forEach(function (row) { body.appendChild(row); });
    });
  });
});
document.querySelectorAll("a[data-filter]").forEach(function (link) {
  if (!link.dataset.filter) { return; }
  link.addEventListener("click", function () {
    var input = document.querySelector(link.getAttribute("href") + " input[type=search]");
    if (input) { input.value = link.dataset.filter; input.dispatchEvent(new Event("input")); }
  });
});
