<?php
return function (Request $request) {
    error_log("a page for " . ($request->query['who'] ?? 'nobody'));
    if ($request->path === '/boom') { nosuch(); }
    if ($request->path === '/fatal') { ini_set('memory_limit', '4M'); $a = str_repeat('x', 1 << 28); }
    echo '<h1>Hello ' . htmlspecialchars($request->query['who'] ?? 'nobody') . '</h1>';
};
