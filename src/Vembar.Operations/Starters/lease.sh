#!/bin/sh
# What is done with an address that the network gave.
case $1 in
    bound|renew)
        ip addr flush dev "$interface"
        ip addr add "$ip/${mask:-24}" dev "$interface"
        for r in $router; do ip route replace default via "$r" dev "$interface"; break; done
        : > /etc/resolv.conf
        [ -n "$domain" ] && echo "search $domain" >> /etc/resolv.conf
        for d in $dns; do echo "nameserver $d" >> /etc/resolv.conf; done
        echo "$ip" > /run/lease
        [ -n "$siaddr" ] && [ "$siaddr" != 0.0.0.0 ] && echo "$siaddr" > /run/server
        ;;
esac
exit 0
