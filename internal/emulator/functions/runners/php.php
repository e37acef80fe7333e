<?php
// Loads a function and calls it, once for each request that comes on descriptor 3. Answers go
// to descriptor 4; what the function writes to STDERR or error_log is its log, and what it
// echoes is its answer if it returns nothing.

[, $file, $name] = $argv;
ini_set('display_errors', 'stderr');
ini_set('log_errors', '0');
ini_set('html_errors', '0');
$requests = fopen('php://fd/3', 'r');
$answers = fopen('php://fd/4', 'w');

function neighbour_say($to, array $head, string $body = ''): void
{
    $all = json_encode($head + ['body' => strlen($body)], JSON_INVALID_UTF8_SUBSTITUTE) . "\n" . $body;
    for ($at = 0; $at < strlen($all); $at += $n) {
        if (($n = fwrite($to, substr($all, $at, 65536))) === false) {
            exit(1);
        }
    }
    fflush($to);
}

function neighbour_told(Throwable $e): array
{
    return ['message' => get_class($e) . ': ' . $e->getMessage(), 'stack' => get_class($e) . ': ' . $e->getMessage() . "\n  at " . $e->getFile() . ':' . $e->getLine() . "\n" . $e->getTraceAsString()];
}

final class Answer
{
    public function __construct(public int $status, public mixed $value, public array $headers)
    {
    }
}

/** What the function was asked. */
final class Request
{
    public string $method;
    public string $path;
    public string $url;
    public array $query = [];
    public array $headers = [];
    public string $body;
    public int $call;

    public function __construct(array $head, string $body)
    {
        [$this->method, $this->path, $this->url, $this->call, $this->body] = [$head['method'], $head['path'], $head['url'], $head['id'], $body];
        parse_str(parse_url($head['url'], PHP_URL_QUERY) ?? '', $this->query);
        foreach ($head['headers'] as [$k, $v]) {
            $k = strtolower($k);
            $this->headers[$k] = isset($this->headers[$k]) ? $this->headers[$k] . ', ' . $v : $v;
        }
    }

    public function json(): mixed
    {
        return json_decode($this->body, true, 512, JSON_THROW_ON_ERROR);
    }

    /** Returns an answer with a status, for the function to return. */
    public function answer(int $status, mixed $value = null, array $headers = []): Answer
    {
        return new Answer($status, $value, $headers);
    }
}

function neighbour_answer(mixed $value, string $echoed): array
{
    [$status, $headers] = [200, []];
    if ($value instanceof Answer) {
        [$status, $headers, $value] = [$value->status, $value->headers, $value->value];
    } elseif ($value === null) {
        $value = $echoed;
        $status = $echoed === '' ? 204 : 200;
    }
    $type = null;
    if (is_string($value)) {
        $type = $value === '' ? null : (str_starts_with(ltrim($value), '<') ? 'text/html; charset=utf-8' : 'text/plain; charset=utf-8');
    } elseif ($value === null) {
        $value = '';
    } else {
        [$type, $value] = ['application/json', json_encode($value, JSON_THROW_ON_ERROR | JSON_UNESCAPED_SLASHES | JSON_UNESCAPED_UNICODE)];
    }
    $pairs = [];
    foreach ($headers as $k => $v) {
        $pairs[] = [(string) $k, (string) $v];
        if (strtolower((string) $k) === 'content-type') {
            $type = null;
        }
    }
    if ($type !== null) {
        $pairs[] = ['content-type', $type];
    }
    return [['status' => $status, 'headers' => $pairs], $value];
}

// An error that ends the program is told, too.
$calling = 0;
register_shutdown_function(function () use (&$calling, $answers) {
    $e = error_get_last();
    if ($calling > 0 && $e !== null) {
        neighbour_say($answers, ['id' => $calling, 'ended' => true, 'error' => ['message' => $e['message'], 'stack' => $e['message'] . "\n  at " . $e['file'] . ':' . $e['line']]]);
    }
});

try {
    ob_start();
    $handler = (static fn () => require $file)();
    ob_end_clean();
    if (!is_callable($handler)) {
        throw new RuntimeException(basename($file) . ' returns no function; write: return function (Request $request) { … };');
    }
} catch (Throwable $e) {
    neighbour_say($answers, ['failed' => neighbour_told($e)]);
    exit(1);
}
neighbour_say($answers, ['ready' => true]);

while (($line = fgets($requests)) !== false) {
    $head = json_decode($line, true);
    $body = '';
    while (strlen($body) < $head['body'] && ($part = fread($requests, $head['body'] - strlen($body))) !== false && $part !== '') {
        $body .= $part;
    }
    $calling = $head['id'];
    $out = '';
    ob_start();
    try {
        $value = $handler(new Request($head, $body));
        [$answer, $out] = neighbour_answer($value, (string) ob_get_clean());
    } catch (Throwable $e) {
        if (ob_get_level() > 0) {
            ob_end_clean();
        }
        $answer = ['error' => neighbour_told($e)];
    }
    $calling = 0;
    fwrite(STDOUT, "\0");
    fwrite(STDERR, "\0");
    neighbour_say($answers, ['id' => $head['id']] + $answer, $out);
}
