import sys
def handler(request):
    print("counting", request.method, request.path, request.query)
    if request.path == "/boom":
        return 1 / 0
    if request.path == "/404":
        return request.answer(404, {"no": "such"}, {"x-why": "test"})
    return {"n": len(request.body)}
