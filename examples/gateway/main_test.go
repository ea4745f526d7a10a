package main

func Example() {
	main()
	// Output:
	// (nobody)    401  Bearer
	// mira-fresh  200
	// mira-stale  401  Bearer error="insufficient_user_authentication", error_description="a stronger or fresher proof is needed", acr_values="aal3", max_age="900"
	// odd         403
}
