(function () {
  "use strict";
  function put(id, text) {
    var e = document.getElementById(id);
    if (e && text !== undefined && e.textContent !== text) e.textContent = text;
  }
  function ask() {
    fetch(location.href, { headers: { "Neighbour-Waiting": "1" }, cache: "no-store" }).then(function (r) {
      return r.json();
    }).then(function (a) {
      if (a.ready) return location.reload();
      put("title", a.title);
      put("why", a.why);
      put("lines", a.lines);
      document.title = a.title;
      later();
    }).catch(later);
  }
  function later() { setTimeout(ask, 400); }
  later();
})();
