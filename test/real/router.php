<?php
// Serves the CMS by PHP's built-in server as a web server with its rewrite rules would. For tests only.
$path = parse_url( $_SERVER['REQUEST_URI'], PHP_URL_PATH );
if ( getenv( 'SITE_HTTPS' ) ) { $_SERVER['HTTPS'] = 'on'; }
$file = $_SERVER['DOCUMENT_ROOT'] . $path;
if ( $path !== '/' && is_file( $file ) ) { return false; }
if ( is_dir( $file ) && is_file( rtrim( $file, '/' ) . '/index.php' ) ) {
	require rtrim( $file, '/' ) . '/index.php';
	return true;
}
$base = getenv( 'SITE_BASE' ) ?: '';
$_SERVER['SCRIPT_NAME'] = $_SERVER['PHP_SELF'] = $base . '/index.php';
require $_SERVER['DOCUMENT_ROOT'] . $base . '/index.php';
