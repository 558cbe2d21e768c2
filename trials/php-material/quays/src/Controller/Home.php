<?php
namespace App\Controller;
use Symfony\Component\HttpFoundation\Response;
class Home { public function __invoke(): Response { return new Response('ahoy from Symfony '.\Symfony\Component\HttpKernel\Kernel::VERSION); } }
