<?php
// The sea locks, served by PHP's own SoapServer. Faults are planted with ODD=name,name in the environment.
$odd = array_filter(explode(',', getenv('ODD') ?: ''));
$path = parse_url($_SERVER['REQUEST_URI'], PHP_URL_PATH);
$wsdl = __DIR__ . '/locks.wsdl';
if ($_SERVER['REQUEST_METHOD'] === 'GET') {
    header('Content-Type: text/xml');
    readfile($wsdl);
    return;
}
$state = sys_get_temp_dir() . '/locks-' . getenv('STATE') . '.json';

class Locks
{
    function __construct(private string $state, private array $odd) {}

    private function all(): array
    {
        return is_file($this->state) ? json_decode(file_get_contents($this->state), true) : [];
    }

    function bookPassage($in)
    {
        $all = $this->all();
        $one = ['number' => count($all) + 1, 'vessel' => $in->vessel, 'chamber' => $in->chamber, 'beamMetres' => $in->beamMetres, 'sealed' => false];
        $all[] = $one;
        file_put_contents($this->state, json_encode($all));
        if (in_array('chamber', $this->odd)) {
            $one['chamber'] = 'middle';
        }
        return ['passage' => $one];
    }

    function getPassage($in)
    {
        $one = $this->all()[$in->number - 1] ?? null;
        if ($one === null) {
            if (in_array('plainfault', $this->odd)) {
                throw new SoapFault('Server', 'the lock keeper is asleep');
            }
            throw new SoapFault('Client', 'there is no such passage', null, ['number' => $in->number], 'NoSuchPassage');
        }
        return ['passage' => $one];
    }

    function listPassages($in)
    {
        return ['passage' => array_slice($this->all(), -5)];
    }

    function level($gauge, $hours)
    {
        return in_array('level', $this->odd) ? 'high' : 4.25;
    }

    function levels($gauge)
    {
        return [4.25, 4.5, 4.75];
    }

    function gauge($gauge)
    {
        return ['name' => $gauge, 'level' => 4.25];
    }
}

$server = new SoapServer($wsdl, ['soap_version' => $path === '/gauges' ? SOAP_1_2 : SOAP_1_1, 'cache_wsdl' => WSDL_CACHE_NONE]);
$server->setObject(new Locks($state, $odd));
$server->handle();
