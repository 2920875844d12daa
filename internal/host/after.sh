#!/bin/sh
echo "The page is at $HOST_PAGE"
