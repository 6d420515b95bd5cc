<?php
// Installs the CMS through its own functions and seeds it with what a used site holds. For tests only.
define( 'WP_INSTALLING', true );
[ , $root, $url ] = $argv;
// Installed through a page without TLS, a site has its address with http in some places, as many have.
if ( getenv( 'SITE_HTTPS' ) ) { $_SERVER['HTTPS'] = 'on'; }
$_SERVER['HTTP_HOST'] = parse_url( $url, PHP_URL_HOST );
$_SERVER['REQUEST_URI'] = parse_url( $url, PHP_URL_PATH ) . '/';
require $root . '/wp-load.php';
require ABSPATH . 'wp-admin/includes/upgrade.php';
function wp_mail() { return true; }
wp_install( 'Saltmarsh Rowing Club', 'tamsin', 'secretary@club.saltmarsh.example', true, '', 'oar-and-rowlock' );
update_option( 'siteurl', $url );
update_option( 'home', $url );
global $wp_rewrite;
$wp_rewrite->set_permalink_structure( '/%postname%/' );
$wp_rewrite->flush_rules( false );

foreach ( array( 'Curlew', 'Avocet', 'Zoë rows', "It's \"quoted\"" ) as $title ) {
	$id = wp_insert_post( wp_slash( array(
		'post_title'   => $title,
		'post_status'  => 'publish',
		'post_type'    => 'post',
		'post_content' => "<!-- wp:image {\"url\":\"" . str_replace( '/', '\\/', "$url/wp-content/uploads/boat.png" ) . "\"} -->\n<p>See <a href=\"$url/safety/\">safety</a> – “mind the ebb” 🚣 \\ back'slash</p>",
	) ) );
	update_post_meta( $id, '_layout_data', wp_slash( wp_json_encode( array( 'hero' => array( 'url' => "$url/a", 'text' => 'grün' ) ) ) ) );
	update_post_meta( $id, '_layout_nested', array( 'css' => "url($url/x.png)", 'inner' => serialize( array( "$url/é", 1.5, null, true ) ), 'obj' => (object) array( 'link' => "$url/o" ) ) );
	update_post_meta( $id, '_share', 'https://share.example/?u=' . rawurlencode( "$url/$title/" ) );
}
wp_insert_post( array( 'post_title' => 'Safety', 'post_name' => 'safety', 'post_status' => 'publish', 'post_type' => 'page', 'post_content' => "<p>Cold water. <a href='$url/'>Home</a></p>" ) );
update_option( 'widget_block', array( 2 => array( 'content' => "<!-- wp:paragraph --><p>Flut – <a href=\"$url/tides/\">Gezeiten</a> ⚓</p><!-- /wp:paragraph -->" ), '_multiwidget' => 1 ) );
update_option( 'creek_deep', array( 'a' => array( 'b' => array( 'c' => "$url/deep", 'json' => wp_json_encode( array( 'u' => "$url/json/" ) ) ) ), 'n' => -7, 'f' => 0.1 ) );
set_transient( 'creek_feed', array( 'link' => "$url/feed/" ) );
$menu = wp_create_nav_menu( 'Main' );
wp_update_nav_menu_item( $menu, 0, array( 'menu-item-title' => 'Safety', 'menu-item-url' => "$url/safety/", 'menu-item-status' => 'publish', 'menu-item-type' => 'custom' ) );
wp_insert_comment( array( 'comment_post_ID' => 1, 'comment_content' => "nice: $url/safety/", 'comment_author' => 'Ifor', 'comment_author_url' => $url ) );
wp_mkdir_p( WP_CONTENT_DIR . '/uploads/css' );
file_put_contents( WP_CONTENT_DIR . '/uploads/css/made.css', "body{background:url($url/wp-content/uploads/boat.png)}" );
echo "seeded\n";
