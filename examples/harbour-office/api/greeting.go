package main

const greeting = "harbour office 1"
