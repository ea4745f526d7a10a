package main

func Example() {
	main()
	// Output:
	// tove.lind: grant
	// tove.lind: step-up, verify app-code
	// tove.lind: step-up, verify password and app-code
	// jan.mork: block
}
