import numpy as np
from sklearn.cluster import KMeans
from sklearn.ensemble import RandomForestClassifier

rng = np.random.default_rng(0)
data = np.concatenate([rng.normal(center, 0.3, (150, 2)) for center in (0, 3, 6)])
labels = np.repeat([0, 1, 2], 150)
print(sorted(np.bincount(KMeans(3, n_init=2, random_state=0).fit_predict(data)).tolist()))
print(RandomForestClassifier(20, n_jobs=2, random_state=0).fit(data, labels).score(data, labels))
