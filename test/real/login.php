<?php
// Logs in to the CMS with its own function. For tests only.
[ , $root, $user, $password ] = $argv;
$_SERVER['HTTP_HOST'] = 'saltmarshrowing.example';
require $root . '/wp-load.php';
$who = wp_authenticate( $user, $password );
echo is_wp_error( $who ) ? $who->get_error_message() : 'in: ' . $who->user_email;
