package place

// How far apart two places are.

import "math"

// earthRadius is the mean radius of the Earth in kilometres (IUGG).
const earthRadius = 6371.0088

// Kilometres is the great-circle distance of two positions in degrees, on a sphere, by the
// haversine formula.
func Kilometres(lat1, long1, lat2, long2 float64) float64 {
	const degree = math.Pi / 180
	half := func(x float64) float64 { s := math.Sin(x * degree / 2); return s * s }
	h := half(lat2-lat1) + math.Cos(lat1*degree)*math.Cos(lat2*degree)*half(long2-long1)
	return 2 * earthRadius * math.Asin(math.Sqrt(min(1, h)))
}
