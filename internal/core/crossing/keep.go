package crossing
