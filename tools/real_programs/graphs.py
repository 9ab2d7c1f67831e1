import networkx as nx

asked = 0


def weight(a, b, data):
    global asked
    asked += 1
    return data["w"]


graph = nx.gnm_random_graph(200, 900, seed=4)
for number, (_, _, data) in enumerate(graph.edges(data=True)):
    data["w"] = 1 + number % 9
print(sum(nx.single_source_dijkstra_path_length(graph, 0, weight=weight).values()), nx.number_connected_components(graph))
print(round(sum(nx.pagerank(graph).values()), 6), f"\nCOUNT weight={asked}")
