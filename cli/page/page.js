'use strict';
(function () {
  var table = document.getElementById('archives');
  if (!table) return;
  var body = table.tBodies[0], rows = Array.from(body.rows);
  var box = document.createElement('input');
  box.type = 'search';
  box.placeholder = 'search';
  box.setAttribute('aria-label', 'search in the archives');
  var shown = document.createElement('span');
  function search() {
    var words = box.value.toLowerCase().split(/\s+/), n = 0;
    rows.forEach(function (row) {
      var text = row.textContent.toLowerCase();
      row.hidden = !words.every(function (word) { return text.includes(word); });
      if (!row.hidden) n++;
    });
    shown.textContent = box.value ? n + ' of ' + rows.length : '';
  }
  box.addEventListener('input', search);
  var scroll = table.parentNode;
  scroll.parentNode.insertBefore(box, scroll);
  scroll.parentNode.insertBefore(shown, scroll);
  Array.from(table.tHead.rows[0].cells).forEach(function (head, column) {
    var button = document.createElement('button');
    button.textContent = head.textContent;
    head.textContent = '';
    head.appendChild(button);
    button.addEventListener('click', function () {
      var down = head.getAttribute('aria-sort') === 'ascending';
      Array.from(head.parentNode.cells).forEach(function (other) { other.removeAttribute('aria-sort'); });
      head.setAttribute('aria-sort', down ? 'descending' : 'ascending');
      rows.sort(function (a, b) {
        var x = a.cells[column], y = b.cells[column];
        var order = x.dataset.v === undefined ? x.textContent.localeCompare(y.textContent, undefined, { numeric: true }) : x.dataset.v - y.dataset.v;
        return down ? -order : order;
      });
      rows.forEach(function (row) { body.appendChild(row); });
    });
  });
})();
