module kestrel.example/buoy

go 1.21
